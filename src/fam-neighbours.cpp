// Nearest neighbours for every number of neighbours, weighting and distance asked:
// one pass over the training rows for each query keeps the nearest by every distance
// in a heap (a row is given up once it is too far), and sums over the sorted nearest
// give all means. Memory is the nearest rows of a block of queries. O(queries * rows * columns)
// at worst.

#include <Rcpp/Lightest>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <utility>
#include <vector>

namespace {

using Near = std::pair<double, int>;

enum Weighting { equal_weights = 0, inverse_weights = 1, fading_weights = 2 };

// What a column adds to the straight (squared), city and largest distance.
template <int kind>
inline double add(double so_far, double difference) {
  if (kind == 0) return so_far + difference * difference;
  if (kind == 1) return so_far + std::fabs(difference);
  return std::max(so_far, std::fabs(difference));
}

template <int kind>
inline double together(const double* part) {
  if (kind == 2) return std::max(std::max(part[0], part[1]), std::max(part[2], part[3]));
  return (part[0] + part[1]) + (part[2] + part[3]);
}

// Distance of two rows, given up as soon as it exceeds `limit`.
template <int kind>
inline double distance_within(const double* a, const double* b, int width, double limit) {
  double part[4] = {0.0, 0.0, 0.0, 0.0};
  int j = 0;
  for (; j + 8 <= width; j += 8) {
    for (int i = 0; i < 4; ++i) part[i] = add<kind>(part[i], a[j + i] - b[j + i]);
    for (int i = 0; i < 4; ++i) part[i] = add<kind>(part[i], a[j + 4 + i] - b[j + 4 + i]);
    if (together<kind>(part) > limit) return limit + 1.0;
  }
  for (; j < width; ++j) part[j % 4] = add<kind>(part[j % 4], a[j] - b[j]);
  return together<kind>(part);
}

// The nearest of the rows seen so far, the farthest of them on top. Rows come in order,
// so that of equal distances the first stay.
class Nearest {
 public:
  void start(int most) {
    most_ = most;
    heap_.clear();
  }
  double limit() const {
    const bool full = static_cast<int>(heap_.size()) >= most_;
    return full ? heap_.front().first : std::numeric_limits<double>::infinity();
  }
  void offer(double distance, int row) {
    if (static_cast<int>(heap_.size()) < most_) {
      heap_.push_back({distance, row});
      std::push_heap(heap_.begin(), heap_.end());
    } else if (distance < heap_.front().first) {
      std::pop_heap(heap_.begin(), heap_.end());
      heap_.back() = {distance, row};
      std::push_heap(heap_.begin(), heap_.end());
    }
  }
  std::vector<Near>& sorted() {
    std::sort_heap(heap_.begin(), heap_.end());
    return heap_;
  }
  const std::vector<Near>& rows() const { return heap_; }

 private:
  int most_ = 0;
  std::vector<Near> heap_;
};

}  // namespace

// `queries` and `rows` are columns x rows; `shares` rows x outcomes; `weights` empty
// or one a row. The combinations wanted are (neighbours, weighting, distance), all
// 0-based but the first; `distances` lists the distances among them. Equal distances
// are taken in the order of the rows. Returns queries x outcomes x combinations.
// [[Rcpp::export]]
Rcpp::NumericVector neighbour_means(
    const Rcpp::NumericMatrix& queries, const Rcpp::NumericMatrix& rows,
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
  std::array<int, 3> most = {0, 0, 0};
  for (int i = 0; i < n_wanted; ++i) {
    most[distance[i]] = std::max(most[distance[i]], std::min(neighbours[i] + 1, n_counted));
  }
  std::vector<double> sums(n_outcomes);

  // All means of one query from its sorted nearest rows.
  auto fill = [&](R_xlen_t q, const std::array<Nearest, 3>& found) {
    for (int i = 0; i < n_wanted; ++i) {
      const std::vector<Near>& near = found[distance[i]].rows();
      const int k = std::min(neighbours[i], n_counted);
      const bool alike = near[0].first <= 0.0;
      // just beyond the farthest asked: the next row, or a little more than the last
      double beyond = k < n_counted ? near[k].first : near[k - 1].first * (1.0 + 1e-6);
      if (beyond <= near[k - 1].first) beyond = near[k - 1].first * (1.0 + 1e-6);
      double total = 0.0;
      std::fill(sums.begin(), sums.end(), 0.0);
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
  };

  // Queries and rows are taken in blocks that stay in the processor's cache.
  const int query_block = 32, row_block = std::max(64, 65536 / (8 * std::max(1, width)));
  std::vector<std::array<Nearest, 3>> block(query_block);

  for (R_xlen_t start = 0; start < n_queries; start += query_block) {
    Rcpp::checkUserInterrupt();
    const int here = static_cast<int>(std::min<R_xlen_t>(query_block, n_queries - start));
    for (int i = 0; i < here; ++i) {
      for (int d : distances) block[i][d].start(most[d]);
    }
    for (int from = 0; from < n_counted; from += row_block) {
      const int to = std::min(n_counted, from + row_block);
      for (int i = 0; i < here; ++i) {
        const double* a = &queries[0] + (start + i) * width;
        for (int d : distances) {
          Nearest& nearest = block[i][d];
          for (int c = from; c < to; ++c) {
            const double* b = &rows[0] + static_cast<R_xlen_t>(counted[c]) * width;
            const double limit = nearest.limit();
            const double far = d == 0 ? distance_within<0>(a, b, width, limit)
                             : d == 1 ? distance_within<1>(a, b, width, limit)
                                      : distance_within<2>(a, b, width, limit);
            nearest.offer(far, counted[c]);
          }
        }
      }
    }
    for (int i = 0; i < here; ++i) {
      for (int d : distances) {
        std::vector<Near>& near = block[i][d].sorted();
        if (d == 0) {
          for (Near& one : near) one.first = std::sqrt(one.first);
        }
      }
      fill(start + i, block[i]);
    }
  }
  return out;
}
