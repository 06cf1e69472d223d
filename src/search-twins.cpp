// Which new points are likely to score as a known one does: those that differ from it in at most
// two things, of which each made no difference between the same two values where all else was most
// alike, as an answer to outliers does where there are none, or any scale before a tree.

#include <Rcpp/Lightest>
#include <algorithm>
#include <vector>

namespace {

constexpr int most_apart = 2;

// Pairs of known points that differ in one thing, and of which it is known whether they scored
// alike.
class Differences {
 public:
  Differences(const Rcpp::IntegerMatrix& codes, const Rcpp::List& pairs,
              const Rcpp::LogicalVector& alike)
      : codes_(codes), first_(Rcpp::as<Rcpp::IntegerVector>(pairs["first"])),
        a_(Rcpp::as<Rcpp::IntegerVector>(pairs["a"])),
        b_(Rcpp::as<Rcpp::IntegerVector>(pairs["b"])), alike_(alike), of_axis_(codes.ncol()) {
    const Rcpp::IntegerVector axis = pairs["axis"];
    for (R_xlen_t i = 0; i < axis.size(); ++i) {
      if (alike[i] != NA_LOGICAL) of_axis_[axis[i] - 1].push_back(static_cast<int>(i));
    }
  }

  // Was there none between the values that a point and a known one have? Of pairs that are far from
  // the point in all else nothing is learned.
  bool none(const Rcpp::IntegerMatrix& points, int point, int known, int axis) const {
    const int here = points(point, axis), there = codes_(known, axis);
    int least = most_apart + 1;
    bool all = false;
    for (int i : of_axis_[axis]) {
      if (!((a_[i] == here && b_[i] == there) || (b_[i] == here && a_[i] == there))) continue;
      const int apart = things_apart(points, point, first_[i] - 1, axis);
      if (apart < least) {
        least = apart;
        all = true;
      }
      if (apart == least && apart <= most_apart) all = all && alike_[i] == TRUE;
    }
    return all && least <= most_apart;
  }

  // Other than along one axis; more than `most_apart` are not counted to the end.
  int things_apart(const Rcpp::IntegerMatrix& points, int point, int known, int but) const {
    int apart = 0;
    for (int j = 0; j < codes_.ncol() && apart <= most_apart; ++j) {
      apart += j != but && points(point, j) != codes_(known, j);
    }
    return apart;
  }

  bool twin(const Rcpp::IntegerMatrix& points, int point, int known) const {
    if (things_apart(points, point, known, -1) > most_apart) return false;
    for (int j = 0; j < codes_.ncol(); ++j) {
      if (points(point, j) != codes_(known, j) && !none(points, point, known, j)) return false;
    }
    return true;
  }

 private:
  const Rcpp::IntegerMatrix codes_;
  const Rcpp::IntegerVector first_, a_, b_;
  const Rcpp::LogicalVector alike_;
  std::vector<std::vector<int>> of_axis_;
};

}  // namespace

// `points`: codes of new points, as `codes` of known ones; `pairs`: see nothing_known(); `alike`:
// see pairs_alike(). One logical for each new point.
// [[Rcpp::export(rng = false)]]
Rcpp::LogicalVector likely_twins(
    const Rcpp::IntegerMatrix& points, const Rcpp::IntegerMatrix& codes, const Rcpp::List& pairs,
    const Rcpp::LogicalVector& alike) {
  const Differences differences(codes, pairs, alike);
  Rcpp::LogicalVector twins(points.nrow());
  for (int i = 0; i < points.nrow(); ++i) {
    for (int known = 0; known < codes.nrow() && !twins[i]; ++known) {
      twins[i] = differences.twin(points, i, known);
    }
  }
  return twins;
}
