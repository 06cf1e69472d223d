// Nodes of a pruned classification or regression tree for many complexities at
// once. One walk from the root per row: as the walk goes down, every complexity
// at or above that of the node reached is settled there, since pruning at a
// value cuts the tree at the first node whose complexity does not exceed it.
// O(rows * (depth + values)).

#include <Rcpp/Lightest>
#include <vector>

namespace {

// -1 left, 1 right, 0 undecided (the value is missing, or a level that the split
// has not seen).
inline int side_of(double value, int n_levels, double cut, const int* level_side, int side_rows) {
  if (Rcpp::NumericVector::is_na(value)) return 0;
  if (n_levels == -1) return value < cut ? -1 : 1;
  if (n_levels == 1) return value < cut ? 1 : -1;
  const int row = static_cast<int>(cut) - 1;
  return level_side[row + side_rows * (static_cast<int>(value) - 1)];
}

}  // namespace

// `complexities` are sorted downwards. Returns 1-based node rows, rows x values.
// [[Rcpp::export]]
Rcpp::IntegerMatrix tree_nodes(const Rcpp::NumericMatrix& x, const Rcpp::List& tree,
                               const Rcpp::NumericVector& complexities) {
  const Rcpp::IntegerVector left = tree["left"], right = tree["right"];
  const Rcpp::IntegerVector first_split = tree["first_split"];
  const Rcpp::IntegerVector n_compete = tree["n_compete"], n_surrogate = tree["n_surrogate"];
  const Rcpp::IntegerVector variable = tree["variable"], n_levels = tree["n_levels"];
  const Rcpp::NumericVector node_rows = tree["rows"], complexity = tree["complexity"];
  const Rcpp::NumericVector cut = tree["cut"];
  const Rcpp::IntegerMatrix level_side = tree["level_side"];
  const int n = x.nrow();
  const int n_values = complexities.size();
  const int side_rows = level_side.nrow();
  const int* sides = level_side.size() > 0 ? &level_side[0] : nullptr;
  const double* values = x.size() > 0 ? &x[0] : nullptr;
  Rcpp::IntegerMatrix out(n, n_values);

  for (int i = 0; i < n; ++i) {
    int node = 0;
    int settled = 0;
    while (true) {
      while (settled < n_values && complexities[settled] >= complexity[node]) {
        out(i, settled++) = node + 1;
      }
      if (settled == n_values) break;
      if (left[node] < 0) {
        while (settled < n_values) out(i, settled++) = node + 1;
        break;
      }
      const int first = first_split[node];
      int side = side_of(values[i + static_cast<R_xlen_t>(n) * variable[first]], n_levels[first],
                         cut[first], sides, side_rows);
      const int surrogate = first + 1 + n_compete[node];
      for (int s = surrogate; side == 0 && s < surrogate + n_surrogate[node]; ++s) {
        side = side_of(values[i + static_cast<R_xlen_t>(n) * variable[s]], n_levels[s], cut[s],
                       sides, side_rows);
      }
      if (side == 0) {
        // the majority's way; with no majority the row stays where it is
        const double majority = node_rows[right[node]] - node_rows[left[node]];
        if (majority == 0.0) {
          while (settled < n_values) out(i, settled++) = node + 1;
          break;
        }
        side = majority > 0.0 ? 1 : -1;
      }
      node = side < 0 ? left[node] : right[node];
    }
  }
  return out;
}
