// Nearest rows under a distance that copes with gaps and categories: the mean,
// over the columns present in both rows, of |a - b| for numbers (scaled by the
// caller) and of 0/1 for codes of categories (Gower 1971). Brute force,
// O(queries * donors * columns), with one partial sort a query.

#include <Rcpp/Lightest>
#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>
#include <vector>

// Matrices are columns x rows, so that a row lies together in memory. Returns the
// 1-based numbers of the k nearest donors, k x queries, nearest first; equal
// distances in the order of donors. skip[i] is a donor that query i must not get
// (0 = none).
// [[Rcpp::export]]
Rcpp::IntegerMatrix nearest_rows(
    const Rcpp::NumericMatrix& queries, const Rcpp::NumericMatrix& donors,
    const Rcpp::LogicalVector& category, int k, const Rcpp::IntegerVector& skip) {
  const int width = donors.nrow();
  const R_xlen_t n_donors = donors.ncol();
  const R_xlen_t n_queries = queries.ncol();
  const int kept = static_cast<int>(std::min<R_xlen_t>(k, n_donors));
  Rcpp::IntegerMatrix out(kept, static_cast<int>(n_queries));
  std::vector<std::pair<double, int>> found(n_donors);
  for (R_xlen_t q = 0; q < n_queries; ++q) {
    if (q % 1024 == 0) Rcpp::checkUserInterrupt();
    const double* a = &queries[0] + q * width;
    for (R_xlen_t d = 0; d < n_donors; ++d) {
      const double* b = &donors[0] + d * width;
      double sum = 0.0;
      int shared = 0;
      for (int j = 0; j < width; ++j) {
        if (std::isnan(a[j]) || std::isnan(b[j])) continue;
        sum += category[j] ? (a[j] != b[j]) : std::fabs(a[j] - b[j]);
        ++shared;
      }
      const bool barred = skip[q] == d + 1;
      const bool near = shared > 0 && !barred;
      found[d] = {near ? sum / shared : std::numeric_limits<double>::infinity(),
                  static_cast<int>(d)};
    }
    std::partial_sort(found.begin(), found.begin() + kept, found.end());
    for (int i = 0; i < kept; ++i) out(i, static_cast<int>(q)) = found[i].second + 1;
  }
  return out;
}
