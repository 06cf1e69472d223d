// Metrics of many predictions at once: probabilities, rows x classes x values, as one
// long vector, against the numbers of the true classes (from 1).

#include <Rcpp/Lightest>
#include <algorithm>
#include <cmath>

// Mean of minus the log of the probability given to the true class, at least `least`; one
// number a value. `weights` is empty or has one value a row.
// [[Rcpp::export]]
Rcpp::NumericVector log_loss_columns(
    const Rcpp::NumericVector& prediction, const Rcpp::IntegerVector& truth,
    const Rcpp::NumericVector& weights, int classes, double least) {
  const R_xlen_t n = truth.size();
  const R_xlen_t values = prediction.size() / (n * classes);
  const bool weighted = weights.size() > 0;
  Rcpp::NumericVector out(values);
  for (R_xlen_t v = 0; v < values; ++v) {
    const double* here = &prediction[0] + v * n * classes;
    long double loss = 0.0, total = 0.0;
    for (R_xlen_t i = 0; i < n; ++i) {
      const double p = here[i + (truth[i] - 1) * n];
      const double w = weighted ? weights[i] : 1.0;
      loss -= w * std::log(p < least ? least : p);
      total += w;
    }
    out[v] = static_cast<double>(loss / total);
  }
  return out;
}

// Weights of the rows by called class, and by called class where it is the true one; two
// matrices classes x values. The called class is the most probable one, the first if
// tied; a value with a missing probability gives NA.
// [[Rcpp::export]]
Rcpp::List confusion_columns(
    const Rcpp::NumericVector& prediction, const Rcpp::IntegerVector& truth,
    const Rcpp::NumericVector& weights, int classes) {
  const R_xlen_t n = truth.size();
  const R_xlen_t values = prediction.size() / (n * classes);
  const bool weighted = weights.size() > 0;
  Rcpp::NumericMatrix called(classes, values), hit(classes, values);
  for (R_xlen_t v = 0; v < values; ++v) {
    const double* here = &prediction[0] + v * n * classes;
    bool missing = false;
    for (R_xlen_t i = 0; i < n; ++i) {
      int best = 0;
      double highest = here[i];
      missing = missing || std::isnan(highest);
      for (int k = 1; k < classes; ++k) {
        const double p = here[i + k * n];
        missing = missing || std::isnan(p);
        if (p > highest) {
          highest = p;
          best = k;
        }
      }
      const double w = weighted ? weights[i] : 1.0;
      called(best, v) += w;
      if (best + 1 == truth[i]) hit(best, v) += w;
    }
    if (missing) {
      std::fill(called.column(v).begin(), called.column(v).end(), NA_REAL);
      std::fill(hit.column(v).begin(), hit.column(v).end(), NA_REAL);
    }
  }
  return Rcpp::List::create(Rcpp::Named("called") = called, Rcpp::Named("hit") = hit);
}

// The called class of every row, numbered from 1: the most probable one, the first if tied; NA
// where a probability is missing. Rows (at least one) x values.
// [[Rcpp::export]]
Rcpp::IntegerMatrix called_classes(const Rcpp::NumericVector& prediction, int rows, int classes) {
  const R_xlen_t n = rows;
  const R_xlen_t values = prediction.size() / (n * classes);
  Rcpp::IntegerMatrix called(rows, static_cast<int>(values));
  for (R_xlen_t v = 0; v < values; ++v) {
    const double* here = &prediction[0] + v * n * classes;
    for (R_xlen_t i = 0; i < n; ++i) {
      int best = 0;
      bool missing = std::isnan(here[i]);
      for (int k = 1; k < classes; ++k) {
        const double p = here[i + k * n];
        missing = missing || std::isnan(p);
        if (p > here[i + best * n]) best = k;
      }
      called(i, v) = missing ? NA_INTEGER : best + 1;
    }
  }
  return called;
}
