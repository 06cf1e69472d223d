#include <Rcpp/Lightest>

// Columns of numbers, or some of their rows (from 1), as one matrix with their names, filled
// in place so that nothing is held twice.
// [[Rcpp::export(rng = false)]]
Rcpp::NumericMatrix filled_matrix(
    Rcpp::List columns, Rcpp::Nullable<Rcpp::IntegerVector> rows, int n) {
  const int width = columns.size();
  Rcpp::NumericMatrix dense(Rcpp::no_init(n, width));
  const int* chosen = rows.isNull() ? nullptr : INTEGER_RO(rows.get());
  for (int j = 0; j < width; ++j) {
    SEXP column = columns[j];
    double* out = dense.begin() + static_cast<R_xlen_t>(j) * n;
    const int length = Rf_length(column);
    if (!chosen && length != n) Rcpp::stop("a column has %d rows instead of %d", length, n);
    const bool whole = TYPEOF(column) == REALSXP;
    // for reading only: else R would give columns that share their memory some of their own
    const double* doubles = whole ? REAL_RO(column) : nullptr;
    const int* integers = whole ? nullptr : INTEGER_RO(column);
    for (int i = 0; i < n; ++i) {
      const int at = chosen ? chosen[i] - 1 : i;
      if (at < 0 || at >= length) Rcpp::stop("there is no row %d", at + 1);
      if (whole) {
        out[i] = doubles[at];
      } else {
        out[i] = integers[at] == NA_INTEGER ? NA_REAL : static_cast<double>(integers[at]);
      }
    }
  }
  // set here: from R it would copy the whole matrix
  if (columns.hasAttribute("names")) {
    dense.attr("dimnames") = Rcpp::List::create(R_NilValue, columns.names());
  }
  return dense;
}
