// Nearest neighbours for every number of neighbours, weighting and distance asked:
// one pass over the differences between each query and all training rows feeds the
// distances, the nearest are partially sorted once a query and distance, and running
// sums over them give all means. Memory is one query's distances at a time,
// O(rows). O(queries * rows * columns).

#include <Rcpp.h>
#include <algorithm>
#include <array>
#include <cmath>
#include <utility>
#include <vector>

namespace {

using Near = std::pair<double, int>;

enum Weighting { equal_weights = 0, inverse_weights = 1, fading_weights = 2 };

// Straight (squared), city and largest distance from the differences of two rows.
template <bool straight, bool city, bool largest>
inline void measure(const double* a, const double* b, int width, double* out) {
  double squares = 0.0, absolute = 0.0, top = 0.0;
  for (int j = 0; j < width; ++j) {
    const double d = a[j] - b[j];
    if (straight) squares += d * d;
    if (city) absolute += std::fabs(d);
    if (largest) top = std::max(top, std::fabs(d));
  }
  out[0] = squares;
  out[1] = absolute;
  out[2] = top;
}

using Measure = void (*)(const double*, const double*, int, double*);

Measure choose_measure(const std::array<bool, 3>& wanted) {
  if (wanted[0] && !wanted[1] && !wanted[2]) return measure<true, false, false>;
  if (!wanted[0] && wanted[1] && !wanted[2]) return measure<false, true, false>;
  return measure<true, true, true>;
}

}  // namespace

// `queries` and `rows` are columns x rows; `shares` rows x outcomes; `weights` empty
// or one a row. The combinations wanted are (neighbours, weighting, distance), all
// 0-based but the first; `distances` lists the distances among them. Equal distances
// are taken in the order of the rows. Returns queries x outcomes x combinations.
// [[Rcpp::export]]
Rcpp::NumericVector neighbour_means(const Rcpp::NumericMatrix& queries, const Rcpp::NumericMatrix& rows,
                                    const Rcpp::NumericMatrix& shares, const Rcpp::NumericVector& weights,
                                    const Rcpp::IntegerVector& neighbours, const Rcpp::IntegerVector& weighting,
                                    const Rcpp::IntegerVector& distance, const Rcpp::IntegerVector& distances) {
  const int width = rows.nrow();
  const int n_rows = rows.ncol();
  const R_xlen_t n_queries = queries.ncol();
  const int n_outcomes = shares.ncol();
  const int n_wanted = neighbours.size();
  Rcpp::NumericVector out(Rcpp::Dimension(n_queries, n_outcomes, n_wanted));

  // With weights of 0 the nearest k are those that count, so that all are kept.
  std::vector<int> counted;
  for (int r = 0; r < n_rows; ++r) {
    if (weights.size() == 0 || weights[r] > 0.0) counted.push_back(r);
  }
  const int n_counted = static_cast<int>(counted.size());
  if (n_counted == 0) Rcpp::stop("no training row has a weight above 0");
  std::array<bool, 3> wanted = {false, false, false};
  std::array<int, 3> most = {0, 0, 0};
  for (int d : distances) wanted[d] = true;
  for (int i = 0; i < n_wanted; ++i) {
    most[distance[i]] = std::max(most[distance[i]], std::min(neighbours[i] + 1, n_counted));
  }
  const Measure measure_rows = choose_measure(wanted);
  std::array<std::vector<Near>, 3> found;
  for (int d : distances) found[d].resize(n_counted);

  for (R_xlen_t q = 0; q < n_queries; ++q) {
    if (q % 256 == 0) Rcpp::checkUserInterrupt();
    const double* a = &queries[0] + q * width;
    for (int c = 0; c < n_counted; ++c) {
      double measured[3];
      measure_rows(a, &rows[0] + static_cast<R_xlen_t>(counted[c]) * width, width, measured);
      for (int d : distances) found[d][c] = {measured[d], counted[c]};
    }
    for (int d : distances) {
      auto middle = found[d].begin() + most[d];
      if (most[d] < n_counted) std::nth_element(found[d].begin(), middle - 1, found[d].end());
      std::sort(found[d].begin(), middle);
      if (d == 0) {
        for (auto near = found[d].begin(); near != middle; ++near) near->first = std::sqrt(near->first);
      }
    }
    for (int i = 0; i < n_wanted; ++i) {
      const std::vector<Near>& near = found[distance[i]];
      const int k = std::min(neighbours[i], n_counted);
      const bool alike = near[0].first <= 0.0;
      // just beyond the farthest asked: the next row, or a little more than the last
      double beyond = k < n_counted ? near[k].first : near[k - 1].first * (1.0 + 1e-6);
      if (beyond <= near[k - 1].first) beyond = near[k - 1].first * (1.0 + 1e-6);
      double total = 0.0;
      std::vector<double> sums(n_outcomes, 0.0);
      for (int m = 0; m < k; ++m) {
        double w = weights.size() ? weights[near[m].second] : 1.0;
        if (weighting[i] == inverse_weights) {
          if (alike && near[m].first > 0.0) break;
          if (!alike) w /= near[m].first;
        } else if (weighting[i] == fading_weights && beyond > 0.0) {
          const double u = near[m].first / beyond;
          w *= 1.0 - u * u;
        }
        total += w;
        for (int o = 0; o < n_outcomes; ++o) sums[o] += w * shares(near[m].second, o);
      }
      for (int o = 0; o < n_outcomes; ++o) {
        out[q + n_queries * (o + static_cast<R_xlen_t>(n_outcomes) * i)] = sums[o] / total;
      }
    }
  }
  return out;
}
