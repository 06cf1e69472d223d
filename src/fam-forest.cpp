// Means over the first columns of a matrix, for many numbers of columns at once:
// a running sum, O(rows * columns).

#include <Rcpp/Lightest>
#include <algorithm>
#include <numeric>
#include <vector>

// `sizes` may come in any order. Returns rows x sizes.
// [[Rcpp::export]]
Rcpp::NumericMatrix prefix_means(const Rcpp::NumericMatrix& x, const Rcpp::IntegerVector& sizes) {
  const R_xlen_t n = x.nrow();
  std::vector<int> order(sizes.size());
  std::iota(order.begin(), order.end(), 0);
  std::sort(order.begin(), order.end(), [&](int a, int b) { return sizes[a] < sizes[b]; });
  std::vector<double> sum(n, 0.0);
  Rcpp::NumericMatrix out(x.nrow(), sizes.size());
  int done = 0;
  for (const int which : order) {
    for (; done < sizes[which]; ++done) {
      const double* column = &x[0] + n * done;
      for (R_xlen_t i = 0; i < n; ++i) sum[i] += column[i];
    }
    double* target = &out[0] + n * which;
    for (R_xlen_t i = 0; i < n; ++i) target[i] = sum[i] / done;
  }
  return out;
}
