// The forest that a search learns from (Breiman 2001): regression trees of features from 0 to 1,
// each of rows drawn with replacement, split where the squared error falls most. Nodes of all trees
// lie one after the other, children side by side, so that a leaf is one number.

#include <Rcpp/Lightest>
#include <algorithm>
#include <cmath>
#include <numeric>
#include <vector>

namespace {

// A feature as numbers of its different values, lowest first.
struct Feature {
  std::vector<double> values;
  std::vector<int> code;
};

Feature coded(const double* x, int n) {
  Feature feature;
  feature.values.assign(x, x + n);
  std::sort(feature.values.begin(), feature.values.end());
  feature.values.erase(
      std::unique(feature.values.begin(), feature.values.end()), feature.values.end());
  feature.code.resize(n);
  for (int i = 0; i < n; ++i) {
    feature.code[i] = static_cast<int>(
        std::lower_bound(feature.values.begin(), feature.values.end(), x[i]) -
        feature.values.begin());
  }
  return feature;
}

// Rows that have one value of a feature: how often they were drawn, and the sum of their y.
struct Sum {
  int code;
  double rows;
  double y;
};

// Where a node is split: codes up to `at` go left. `feature` is -1 where it is not.
struct Split {
  int feature = -1;
  int at = 0;
  int next = 0;
  double gain = 0.0;
};

class Grower {
 public:
  Grower(const Rcpp::NumericMatrix& x, const Rcpp::NumericVector& y, int tried, int least)
      : y_(y), n_(x.nrow()), tried_(tried), least_(least), drawn_(n_), order_(x.ncol()) {
    for (int j = 0; j < x.ncol(); ++j) {
      features_.push_back(coded(x.begin() + static_cast<R_xlen_t>(j) * n_, n_));
    }
    std::iota(order_.begin(), order_.end(), 0);
  }

  void grow_tree() {
    root.push_back(static_cast<int>(value.size()) + 1);
    std::fill(drawn_.begin(), drawn_.end(), 0);
    for (int i = 0; i < n_; ++i) ++drawn_[below(n_)];
    rows_.clear();
    for (int i = 0; i < n_; ++i) {
      if (drawn_[i] > 0) rows_.push_back(i);
    }
    struct Open {
      int node, from, to;
    };
    std::vector<Open> open{{add_node(), 0, static_cast<int>(rows_.size())}};
    while (!open.empty()) {
      const Open now = open.back();
      open.pop_back();
      const Split split = best_split(now.node, now.from, now.to);
      if (split.feature < 0) continue;
      const Feature& by = features_[split.feature];
      const auto middle = std::partition(
          rows_.begin() + now.from, rows_.begin() + now.to,
          [&](int row) { return by.code[row] <= split.at; });
      const int between = static_cast<int>(middle - rows_.begin());
      const int left = add_node();
      add_node();
      feature[now.node] = split.feature + 1;
      cut[now.node] = (by.values[split.at] + by.values[split.next]) / 2.0;
      child[now.node] = left + 1;
      open.push_back({left, now.from, between});
      open.push_back({left + 1, between, now.to});
    }
  }

  // numbers of nodes and features from 1; a leaf has the feature 0
  std::vector<int> root, feature, child;
  std::vector<double> cut, value;

 private:
  static int below(int n) { return std::min(n - 1, static_cast<int>(R::unif_rand() * n)); }

  int add_node() {
    feature.push_back(0);
    child.push_back(0);
    cut.push_back(0.0);
    value.push_back(0.0);
    return static_cast<int>(value.size()) - 1;
  }

  // Among some features that are drawn; also gives the node its value.
  Split best_split(int node, int from, int to) {
    double rows = 0.0, sum = 0.0;
    for (int i = from; i < to; ++i) {
      rows += drawn_[rows_[i]];
      sum += drawn_[rows_[i]] * y_[rows_[i]];
    }
    value[node] = sum / rows;
    Split best;
    if (rows <= least_) return best;
    // rounding alone is no gain
    best.gain = sum * sum / rows + 1e-10;
    const int features = static_cast<int>(features_.size());
    for (int k = 0; k < std::min(tried_, features); ++k) {
      std::swap(order_[k], order_[k + below(features - k)]);
      take_sums(features_[order_[k]], from, to);
      double left_rows = 0.0, left_sum = 0.0;
      for (std::size_t s = 0; s + 1 < sums_.size(); ++s) {
        left_rows += sums_[s].rows;
        left_sum += sums_[s].y;
        const double right_sum = sum - left_sum;
        const double gain =
            left_sum * left_sum / left_rows + right_sum * right_sum / (rows - left_rows);
        if (gain > best.gain) best = {order_[k], sums_[s].code, sums_[s + 1].code, gain};
      }
    }
    return best;
  }

  // What every value of a feature that is there has, lowest first: few values are counted, of many
  // the rows are sorted.
  void take_sums(const Feature& by, int from, int to) {
    sums_.clear();
    const int values = static_cast<int>(by.values.size());
    if (values <= 2 * (to - from)) {
      sums_.resize(values);
      for (int code = 0; code < values; ++code) sums_[code] = {code, 0.0, 0.0};
      for (int i = from; i < to; ++i) add(sums_[by.code[rows_[i]]], rows_[i]);
      sums_.erase(
          std::remove_if(sums_.begin(), sums_.end(), [](const Sum& s) { return s.rows == 0.0; }),
          sums_.end());
      return;
    }
    std::sort(rows_.begin() + from, rows_.begin() + to, [&](int a, int b) {
      return by.code[a] != by.code[b] ? by.code[a] < by.code[b] : a < b;
    });
    for (int i = from; i < to; ++i) {
      const int code = by.code[rows_[i]];
      if (sums_.empty() || sums_.back().code != code) sums_.push_back({code, 0.0, 0.0});
      add(sums_.back(), rows_[i]);
    }
  }

  void add(Sum& sum, int row) const {
    sum.rows += drawn_[row];
    sum.y += drawn_[row] * y_[row];
  }

  const Rcpp::NumericVector y_;
  const int n_, tried_, least_;
  std::vector<Feature> features_;
  std::vector<int> drawn_, order_, rows_;
  std::vector<Sum> sums_;
};

constexpr double least_variance = 1e-12;

// What every tree says of points, of how many points, in which leaf, points x trees; mean and
// spread.
class Said {
 public:
  Said(int points, int trees)
      : each_(points, trees), sizes_(points, trees), leaves_(points, trees), sums_(points, 0.0L) {}

  void put(int point, int tree, double value, double size, int leaf) {
    each_(point, tree) = value;
    sizes_(point, tree) = size;
    leaves_(point, tree) = leaf;
    sums_[point] += value;
  }

  Rcpp::List whole() const {
    const int points = each_.nrow(), trees = each_.ncol();
    Rcpp::NumericVector mean(points), sd(points);
    std::vector<long double> squares(points, 0.0L);
    for (int i = 0; i < points; ++i) mean[i] = static_cast<double>(sums_[i] / trees);
    for (int tree = 0; tree < trees; ++tree) {
      for (int i = 0; i < points; ++i) {
        const double apart = each_(i, tree) - mean[i];
        squares[i] += apart * apart;
      }
    }
    for (int i = 0; i < points; ++i) {
      sd[i] = std::sqrt(std::max(static_cast<double>(squares[i] / trees), least_variance));
    }
    return Rcpp::List::create(
        Rcpp::Named("mean") = mean, Rcpp::Named("sd") = sd, Rcpp::Named("each") = each_,
        Rcpp::Named("sizes") = sizes_, Rcpp::Named("leaves") = leaves_);
  }

 private:
  Rcpp::NumericMatrix each_, sizes_;
  Rcpp::IntegerMatrix leaves_;
  std::vector<long double> sums_;
};

// The leaf of a tree that a row of x falls into.
int leaf_of(const Rcpp::NumericMatrix& x, int row, int node, const int* feature, const int* child,
            const double* cut) {
  while (feature[node - 1] > 0) {
    node = child[node - 1] + (x(row, feature[node - 1] - 1) > cut[node - 1]);
  }
  return node;
}

}  // namespace

// `tried` features are looked at in each node, those with more than `least` rows are split. Returns
// root (of every tree), and of every node, from 1: feature (from 1, 0 for a leaf), cut, child (the
// left one; the right one is the next), value, and how many rows of x fall into it if it is a leaf
// (size). Draws from R's generator.
// [[Rcpp::export]]
Rcpp::List grow_forest(
    const Rcpp::NumericMatrix& x, const Rcpp::NumericVector& y, int trees, int tried, int least) {
  Grower grower(x, y, tried, least);
  for (int tree = 0; tree < trees; ++tree) grower.grow_tree();
  const int* feature = grower.feature.data();
  const int* child = grower.child.data();
  const double* cut = grower.cut.data();
  std::vector<double> size(grower.value.size(), 0.0);
  for (int root : grower.root) {
    for (int i = 0; i < x.nrow(); ++i) ++size[leaf_of(x, i, root, feature, child, cut) - 1];
  }
  return Rcpp::List::create(
      Rcpp::Named("root") = grower.root, Rcpp::Named("feature") = grower.feature,
      Rcpp::Named("cut") = grower.cut, Rcpp::Named("child") = grower.child,
      Rcpp::Named("value") = grower.value, Rcpp::Named("size") = size);
}

// What the forest says of each row of x: mean and sd over its trees (sd at least 1e-6), and, rows x
// trees, each tree's own value, the size of the leaf that it comes from, and that leaf.
// [[Rcpp::export(rng = false)]]
Rcpp::List forest_says(const Rcpp::List& forest, const Rcpp::NumericMatrix& x) {
  const Rcpp::IntegerVector root = forest["root"], feature = forest["feature"];
  const Rcpp::IntegerVector child = forest["child"];
  const Rcpp::NumericVector cut = forest["cut"], value = forest["value"], size = forest["size"];
  Said said(x.nrow(), root.size());
  for (int tree = 0; tree < root.size(); ++tree) {
    for (int i = 0; i < x.nrow(); ++i) {
      const int leaf = leaf_of(x, i, root[tree], feature.begin(), child.begin(), cut.begin());
      said.put(i, tree, value[leaf - 1], size[leaf - 1], leaf);
    }
  }
  return said.whole();
}

// What the forest says of some rows once the point in row `at` is taken to be as good as `value`:
// as forest_says(), of which `each`, `sizes` and `leaves` are. Where they fall into a leaf with the
// point, the leaf's mean moves towards it.
// [[Rcpp::export(rng = false)]]
Rcpp::List forest_imagined(const Rcpp::NumericMatrix& each, const Rcpp::NumericMatrix& sizes,
                           const Rcpp::IntegerMatrix& leaves, const Rcpp::IntegerVector& rows,
                           int at, double value) {
  const int n = rows.size();
  Said said(n, each.ncol());
  for (int tree = 0; tree < each.ncol(); ++tree) {
    const int there = leaves(at - 1, tree);
    for (int i = 0; i < n; ++i) {
      const int row = rows[i] - 1;
      const double mean = each(row, tree);
      const double size = sizes(row, tree);
      if (leaves(row, tree) == there) {
        said.put(i, tree, (size * mean + value) / (size + 1), size + 1, there);
      } else {
        said.put(i, tree, mean, size, leaves(row, tree));
      }
    }
  }
  return said.whole();
}
