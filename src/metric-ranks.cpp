// Metrics of many score columns that depend on the order of the rows: each column is
// reduced to its runs of tied scores, lowest first. A column with few distinct scores is
// counted in a small hash table, any other is put in order by a radix sort of the upper
// half of its bits, which tells nearly all scores apart; what it leaves together is sorted.

#include <Rcpp/Lightest>
#include <algorithm>
#include <array>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <vector>

namespace {

// Rows that share one score: the weight of those with the event, and of all.
struct Run {
  std::uint64_t key;
  double event;
  double all;
};
using Runs = std::vector<Run>;

constexpr int few = 256;
constexpr int slots = 1024;
constexpr int digit_bits = 11;
constexpr int digits = 1 << digit_bits;
constexpr int passes = 3;
constexpr int left_out = 64 - passes * digit_bits;

// Whole numbers in the order of the scores; both zeros give the same one.
inline std::uint64_t key_of(double score) {
  score += 0.0;
  std::uint64_t bits;
  std::memcpy(&bits, &score, sizeof bits);
  return bits & (std::uint64_t{1} << 63) ? ~bits : bits | (std::uint64_t{1} << 63);
}

class Ranker {
 public:
  // `weights` is empty or has one value a row.
  Ranker(const Rcpp::LogicalVector& event, const Rcpp::NumericVector& weights)
      : n_(event.size()), event_(n_), all_(n_), row_(n_), spare_(n_), table_(slots), first_(slots) {
    for (std::size_t i = 0; i < n_; ++i) {
      all_[i] = weights.size() > 0 ? weights[i] : 1.0;
      event_[i] = event[i] ? all_[i] : 0.0;
    }
  }

  // The runs of a column; false if a score is missing.
  bool read(const double* column, Runs& runs) {
    for (std::size_t i = 0; i < n_; ++i) {
      if (std::isnan(column[i])) return false;
    }
    if (!count_few(column, runs)) sort_all(column, runs);
    return true;
  }

 private:
  struct Row {
    std::uint64_t key;
    std::uint32_t at;
  };

  bool count_few(const double* column, Runs& runs) {
    runs.clear();
    std::fill(first_.begin(), first_.end(), -1);
    for (std::size_t i = 0; i < n_; ++i) {
      const std::uint64_t key = key_of(column[i]);
      std::size_t slot = (key * 0x9E3779B97F4A7C15ull) >> 54;
      while (first_[slot] >= 0 && table_[slot] != key) slot = (slot + 1) & (slots - 1);
      if (first_[slot] < 0) {
        if (runs.size() == few) return false;
        table_[slot] = key;
        first_[slot] = static_cast<int>(runs.size());
        runs.push_back({key, 0.0, 0.0});
      }
      Run& run = runs[first_[slot]];
      run.event += event_[i];
      run.all += all_[i];
    }
    std::sort(runs.begin(), runs.end(), [](const Run& a, const Run& b) { return a.key < b.key; });
    return true;
  }

  void sort_all(const double* column, Runs& runs) {
    std::array<std::array<std::uint32_t, digits>, passes> counts{};
    for (std::size_t i = 0; i < n_; ++i) {
      const std::uint64_t key = key_of(column[i]);
      row_[i] = {key, static_cast<std::uint32_t>(i)};
      for (int pass = 0; pass < passes; ++pass) ++counts[pass][digit(key, pass)];
    }
    for (int pass = 0; pass < passes; ++pass) {
      if (counts[pass][digit(row_[0].key, pass)] == n_) continue;
      std::uint32_t sum = 0;
      for (std::uint32_t& count : counts[pass]) {
        const std::uint32_t here = count;
        count = sum;
        sum += here;
      }
      for (const Row& row : row_) spare_[counts[pass][digit(row.key, pass)]++] = row;
      row_.swap(spare_);
    }
    sort_together();
    runs.clear();
    for (const Row& row : row_) {
      if (runs.empty() || runs.back().key != row.key) runs.push_back({row.key, 0.0, 0.0});
      runs.back().event += event_[row.at];
      runs.back().all += all_[row.at];
    }
  }

  // Rows whose upper bits are the same, by the whole key, then as they came.
  void sort_together() {
    for (auto from = row_.begin(); from != row_.end();) {
      auto to = from + 1;
      bool alike = true;
      for (; to != row_.end() && to->key >> left_out == from->key >> left_out; ++to) {
        alike &= to->key == from->key;
      }
      if (!alike) {
        std::sort(from, to, [](const Row& a, const Row& b) {
          return a.key != b.key ? a.key < b.key : a.at < b.at;
        });
      }
      from = to;
    }
  }

  static std::size_t digit(std::uint64_t key, int pass) {
    return (key >> (left_out + pass * digit_bits)) & (digits - 1);
  }

  std::size_t n_;
  std::vector<double> event_, all_;
  std::vector<Row> row_, spare_;
  std::vector<std::uint64_t> table_;
  std::vector<int> first_;
};

// Scores of one class (from 1) in rows x classes x values, as one long vector; one number
// a value. `one` gives it from the runs, lowest first.
template <typename Score>
Rcpp::NumericVector score_columns(
    const Rcpp::NumericVector& prediction, int the_class, int classes,
    const Rcpp::LogicalVector& event, const Rcpp::NumericVector& weights, Score one) {
  const R_xlen_t n = event.size();
  const R_xlen_t values = prediction.size() / (n * classes);
  Rcpp::NumericVector out(values, NA_REAL);
  Ranker ranker(event, weights);
  Runs runs;
  for (R_xlen_t v = 0; v < values; ++v) {
    if (ranker.read(&prediction[0] + n * (v * classes + the_class - 1), runs)) out[v] = one(runs);
  }
  return out;
}

Run total_of(const Runs& runs) {
  Run total{0, 0.0, 0.0};
  for (const Run& run : runs) {
    total.event += run.event;
    total.all += run.all;
  }
  return total;
}

}  // namespace

// Area under the ROC curve: each run of tied scores contributes (events in it) x
// (non-events below + half the non-events in it). NA without events or without
// non-events. Source: Hanley & McNeil (1982), the Mann-Whitney form.
// [[Rcpp::export]]
Rcpp::NumericVector auc_columns(
    const Rcpp::NumericVector& prediction, int the_class, int classes,
    const Rcpp::LogicalVector& event, const Rcpp::NumericVector& weights) {
  return score_columns(prediction, the_class, classes, event, weights, [](const Runs& runs) {
    const Run total = total_of(runs);
    const double others = total.all - total.event;
    if (total.event <= 0.0 || others <= 0.0) return NA_REAL;
    double below = 0.0, area = 0.0;
    for (const Run& run : runs) {
      const double other = run.all - run.event;
      area += run.event * (below + 0.5 * other);
      below += other;
    }
    return area / (total.event * others);
  });
}

// Average precision: the sum over runs of tied scores, from the highest down, of (rise of
// recall) x (precision so far). NA without events.
// [[Rcpp::export]]
Rcpp::NumericVector average_precision_columns(
    const Rcpp::NumericVector& prediction, int the_class, int classes,
    const Rcpp::LogicalVector& event, const Rcpp::NumericVector& weights) {
  return score_columns(prediction, the_class, classes, event, weights, [](const Runs& runs) {
    const Run total = total_of(runs);
    if (total.event <= 0.0) return NA_REAL;
    double found = 0.0, taken = 0.0, area = 0.0;
    for (auto run = runs.rbegin(); run != runs.rend(); ++run) {
      found += run->event;
      taken += run->all;
      if (taken > 0.0) area += run->event / total.event * (found / taken);
    }
    return area;
  });
}

// Share of events among the highest-scored `share` of the rows (by weight) over their
// share among all; the run of tied scores that the cut falls into counts in part.
// [[Rcpp::export]]
Rcpp::NumericVector lift_columns(
    const Rcpp::NumericVector& prediction, int the_class, int classes,
    const Rcpp::LogicalVector& event, const Rcpp::NumericVector& weights, double share) {
  return score_columns(prediction, the_class, classes, event, weights, [share](const Runs& runs) {
    const Run total = total_of(runs);
    if (total.event <= 0.0) return NA_REAL;
    double room = share * total.all, found = 0.0;
    for (auto run = runs.rbegin(); run != runs.rend() && room > 0.0; ++run) {
      const double part = run->all <= room ? 1.0 : room / run->all;
      found += part * run->event;
      room -= run->all;
    }
    return (found / (share * total.all)) / (total.event / total.all);
  });
}
