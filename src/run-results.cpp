#include <Rcpp/Lightest>

// A matrix to some cells of which something is added, also to one that is named more than once;
// a cell that is missing counts as 0 then. Rows and columns are from 1.
// [[Rcpp::export(rng = false)]]
Rcpp::NumericMatrix added_at(
    const Rcpp::NumericMatrix& matrix, const Rcpp::IntegerVector& rows,
    const Rcpp::IntegerVector& columns, const Rcpp::NumericVector& more) {
  const R_xlen_t many = more.size();
  if (rows.size() != many || columns.size() != many) Rcpp::stop("as many cells as values");
  Rcpp::NumericMatrix sums = Rcpp::clone(matrix);
  const int height = sums.nrow(), width = sums.ncol();
  for (R_xlen_t i = 0; i < many; ++i) {
    const int row = rows[i], column = columns[i];
    if (row < 1 || row > height || column < 1 || column > width) {
      Rcpp::stop("there is no cell %d, %d", row, column);
    }
    double& cell = sums[row - 1 + static_cast<R_xlen_t>(column - 1) * height];
    cell = (Rcpp::NumericVector::is_na(cell) ? 0 : cell) + more[i];
  }
  return sums;
}
