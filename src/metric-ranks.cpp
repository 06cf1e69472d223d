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
