// Area under the ROC curve of many score columns: rows are sorted by score, and
// each run of tied scores contributes (events in run) x (non-events below + half
// the non-events in the run). O(rows log rows) per column.
// Source: Hanley & McNeil (1982), the Mann-Whitney form.

#include <Rcpp.h>
#include <algorithm>
#include <cmath>
#include <vector>

// `weights` is empty or has one value a row. A column with a missing score gives
// NA; so does a column without events or without non-events.
// [[Rcpp::export]]
Rcpp::NumericVector auc_columns(const Rcpp::NumericMatrix& scores, const Rcpp::LogicalVector& event,
                                const Rcpp::NumericVector& weights) {
  const R_xlen_t n = scores.nrow();
  const bool weighted = weights.size() > 0;
  Rcpp::NumericVector out(scores.ncol());
  struct Row {
    double score;
    double event;
    double other;
  };
  std::vector<Row> rows(n);
  for (int j = 0; j < scores.ncol(); ++j) {
    const double* column = &scores[0] + n * j;
    bool missing = false;
    double total_event = 0.0, total_other = 0.0;
    for (R_xlen_t i = 0; i < n; ++i) {
      const double w = weighted ? weights[i] : 1.0;
      missing = missing || std::isnan(column[i]);
      rows[i] = {column[i], event[i] ? w : 0.0, event[i] ? 0.0 : w};
      total_event += rows[i].event;
      total_other += rows[i].other;
    }
    if (missing || total_event <= 0.0 || total_other <= 0.0) {
      out[j] = NA_REAL;
      continue;
    }
    std::sort(rows.begin(), rows.end(), [](const Row& a, const Row& b) { return a.score < b.score; });
    double below = 0.0, area = 0.0;
    for (R_xlen_t i = 0; i < n;) {
      double run_event = 0.0, run_other = 0.0;
      const double score = rows[i].score;
      for (; i < n && rows[i].score == score; ++i) {
        run_event += rows[i].event;
        run_other += rows[i].other;
      }
      area += run_event * (below + 0.5 * run_other);
      below += run_other;
    }
    out[j] = area / (total_event * total_other);
  }
  return out;
}

namespace {

struct Ranked {
  double score;
  double event;
  double weight;
};

// Rows of one column from the highest score down; false if a score is missing.
bool rank_down(const double* column, const Rcpp::LogicalVector& event, const Rcpp::NumericVector& weights,
               std::vector<Ranked>& rows) {
  const bool weighted = weights.size() > 0;
  for (R_xlen_t i = 0; i < event.size(); ++i) {
    if (std::isnan(column[i])) return false;
    const double w = weighted ? weights[i] : 1.0;
    rows[i] = {column[i], event[i] ? w : 0.0, w};
  }
  std::sort(rows.begin(), rows.end(), [](const Ranked& a, const Ranked& b) { return a.score > b.score; });
  return true;
}

}  // namespace

// Average precision of many columns: the sum over runs of tied scores, from the
// highest down, of (rise of recall) x (precision so far). NA without events or with a
// missing score.
// [[Rcpp::export]]
Rcpp::NumericVector average_precision_columns(const Rcpp::NumericMatrix& scores, const Rcpp::LogicalVector& event,
                                              const Rcpp::NumericVector& weights) {
  const R_xlen_t n = scores.nrow();
  Rcpp::NumericVector out(scores.ncol(), NA_REAL);
  std::vector<Ranked> rows(n);
  for (int j = 0; j < scores.ncol(); ++j) {
    if (!rank_down(&scores[0] + n * j, event, weights, rows)) continue;
    double total = 0.0;
    for (const Ranked& row : rows) total += row.event;
    if (total <= 0.0) continue;
    double found = 0.0, taken = 0.0, area = 0.0;
    for (R_xlen_t i = 0; i < n;) {
      const double score = rows[i].score;
      double rise = 0.0;
      for (; i < n && rows[i].score == score; ++i) {
        rise += rows[i].event;
        taken += rows[i].weight;
      }
      found += rise;
      if (taken > 0.0) area += rise / total * (found / taken);
    }
    out[j] = area;
  }
  return out;
}

// Share of events among the highest-scored `share` of the rows (by weight) over their
// share among all; the run of tied scores that the cut falls into counts in part.
// [[Rcpp::export]]
Rcpp::NumericVector lift_columns(const Rcpp::NumericMatrix& scores, const Rcpp::LogicalVector& event,
                                 const Rcpp::NumericVector& weights, double share) {
  const R_xlen_t n = scores.nrow();
  Rcpp::NumericVector out(scores.ncol(), NA_REAL);
  std::vector<Ranked> rows(n);
  for (int j = 0; j < scores.ncol(); ++j) {
    if (!rank_down(&scores[0] + n * j, event, weights, rows)) continue;
    double total = 0.0, events = 0.0;
    for (const Ranked& row : rows) {
      total += row.weight;
      events += row.event;
    }
    if (events <= 0.0) continue;
    double room = share * total, found = 0.0;
    for (R_xlen_t i = 0; i < n && room > 0.0;) {
      const double score = rows[i].score;
      double run = 0.0, run_events = 0.0;
      for (; i < n && rows[i].score == score; ++i) {
        run += rows[i].weight;
        run_events += rows[i].event;
      }
      const double part = run <= room ? 1.0 : room / run;
      found += part * run_events;
      room -= run;
    }
    out[j] = (found / (share * total)) / (events / total);
  }
  return out;
}
