// How evolution makes new places of known ones: newcomers, children of one or two parents, and what
// is changed in them. A place is where a point lies in the unit cube of its candidate; it has no
// number where a value has no effect. Draws from R's generator as sample() does.

#include <Rcpp/Lightest>
#include <algorithm>
#include <cmath>
#include <iterator>
#include <numeric>
#include <vector>

namespace {

// Shares of all children, or of all draws.
constexpr double without_parents = 0.05;
constexpr double of_any_candidate = 0.5;
constexpr double of_the_front = 0.2;
constexpr double taken_over = 0.7;
// How far a value of a range moves, and one of ordered levels at least, in levels.
constexpr double step_of_range = 0.15;
constexpr double fewest_levels = 1.5;
// What has a merit of one standard deviation more is taken twenty times as often.
constexpr double merit_pull = 3.0;

int one_of(std::size_t n) { return static_cast<int>(R_unif_index(static_cast<double>(n))); }

int one_of(const std::vector<int>& several) { return several[one_of(several.size())]; }

// Some, each at most once, in the order drawn.
std::vector<int> some_of(std::vector<int> from, int n) {
  std::vector<int> drawn;
  while (static_cast<int>(drawn.size()) < n) {
    const int at = one_of(from.size());
    drawn.push_back(from[at]);
    from[at] = from.back();
    from.pop_back();
  }
  return drawn;
}

// Which one, each as likely as said; never one that is not likely at all, if others are.
int weighted_one(std::vector<double> likely) {
  std::vector<int> which(likely.size());
  std::iota(which.begin(), which.end(), 0);
  const double total = std::accumulate(likely.begin(), likely.end(), 0.0);
  revsort(likely.data(), which.data(), static_cast<int>(likely.size()));
  double left = unif_rand() * total;
  std::size_t at = 0;
  while (at + 1 < likely.size() && likely[at + 1] > 0.0 && left > likely[at]) {
    left -= likely[at++];
  }
  return which[at];
}

// Where a value may move to, how likely each is, and how often it moves at all.
struct Moves {
  std::vector<double> to, likely;
  double often;
};

// One thing that may change in a candidate's points; a range has no levels.
struct Axis {
  int column;
  double often;
  int levels;
  bool ordered;
  std::vector<double> merit;

  Moves from(double place) const {
    if (levels == 0) {
      const double to = place + step_of_range * norm_rand();
      return {{std::min(std::max(to, 0.0), 1.0)}, {1.0}, often};
    }
    const int at = static_cast<int>(std::min(std::floor(place * levels), levels - 1.0));
    Moves moves = {{}, {}, 0.0};
    for (int to = 0; to < levels; ++to) {
      if (to == at) continue;
      moves.to.push_back((to + 0.5) / levels);
      moves.likely.push_back(nearness(to - at));
    }
    const double all = std::accumulate(moves.likely.begin(), moves.likely.end(), 0.0);
    for (int to = 0, i = 0; to < levels; ++to) {
      if (to == at) continue;
      moves.likely[i] /= all;
      if (!merit.empty()) moves.likely[i] *= std::exp(merit_pull * (merit[to] - merit[at]));
      moves.often += often * moves.likely[i++];
    }
    return moves;
  }

 private:
  // Of ordered levels mostly the next ones, of others any.
  double nearness(int levels_away) const {
    if (!ordered) return 1.0;
    const double far = levels_away / std::max(fewest_levels, step_of_range * levels);
    return std::exp(-far * far / 2);
  }
};

// What is known of a candidate.
struct Candidate {
  Candidate(const Rcpp::NumericMatrix& places, const Rcpp::List& chances)
      : places(places) {
    const Rcpp::IntegerVector columns = chances["axes"], levels = chances["levels"];
    const Rcpp::NumericVector often = chances["often"];
    const Rcpp::LogicalVector ordered = chances["ordered"];
    const Rcpp::List merits = chances["merits"];
    for (R_xlen_t i = 0; i < columns.size(); ++i) {
      Axis axis = {columns[i] - 1, often[i], levels[i], ordered[i] == TRUE, {}};
      if (!Rf_isNull(merits[i])) axis.merit = Rcpp::as<std::vector<double>>(merits[i]);
      axes.push_back(axis);
    }
  }

  std::vector<double> place(int row) const {
    std::vector<double> place(places.ncol());
    for (int j = 0; j < places.ncol(); ++j) place[j] = places(row, j);
    return place;
  }

  // One value changed, now and then more.
  void mutate(std::vector<double>& place) const {
    if (axes.empty()) return;
    std::vector<Moves> moves;
    std::vector<double> often;
    for (const Axis& axis : axes) {
      moves.push_back(axis.from(place[axis.column]));
      often.push_back(moves.back().often);
    }
    const double n = static_cast<double>(axes.size());
    const int changes = 1 + static_cast<int>(Rf_rbinom(n - 1, 0.5 / n));
    for (int i = 0; i < changes; ++i) {
      if (*std::max_element(often.begin(), often.end()) <= 0.0) return;
      const int at = weighted_one(often);
      const Moves& move = moves[at];
      place[axes[at].column] = move.to[move.to.size() > 1 ? weighted_one(move.likely) : 0];
      often[at] = 0.0;
    }
  }

  Rcpp::NumericMatrix places;
  std::vector<Axis> axes;
};

// Rows of parents, from 0.
class Parents {
 public:
  Parents(const Rcpp::List& parents, int tournament)
      : candidate(Rcpp::as<std::vector<int>>(parents["candidate"])),
        row(Rcpp::as<std::vector<int>>(parents["row"])),
        good_(Rcpp::as<std::vector<double>>(parents["good"])),
        front_(Rcpp::as<std::vector<int>>(parents["front"])),
        tournament_(tournament) {
    for (int one : candidate) {
      if (std::find(candidates_.begin(), candidates_.end(), one) == candidates_.end()) {
        candidates_.push_back(one);
      }
    }
  }

  std::vector<int> all_but(int without) const {
    std::vector<int> rows;
    for (int i = 0; i < size(); ++i) {
      if (i != without) rows.push_back(i);
    }
    return rows;
  }

  // Now and then one of a candidate that is drawn, so that none dies out.
  int first() const {
    if (unif_rand() >= of_any_candidate) return draw(all_but(-1));
    const int drawn = one_of(candidates_);
    std::vector<int> rows;
    for (int i = 0; i < size(); ++i) {
      if (candidate[i] == drawn) rows.push_back(i);
    }
    return draw(rows);
  }

  // Of these rows, now and then one of the front, else the best of some that are drawn.
  int draw(const std::vector<int>& rows) const {
    std::vector<int> front;
    std::copy_if(rows.begin(), rows.end(), std::back_inserter(front),
                 [&](int i) { return front_[i] != 0; });
    if (!front.empty() && unif_rand() < of_the_front) return one_of(front);
    const std::vector<int> drawn =
        some_of(rows, std::min(tournament_, static_cast<int>(rows.size())));
    return *std::max_element(drawn.begin(), drawn.end(),
                             [&](int a, int b) { return good_[a] < good_[b]; });
  }

  int size() const { return static_cast<int>(candidate.size()); }

  // Both from 1.
  const std::vector<int> candidate, row;

 private:
  std::vector<double> good_;
  std::vector<int> front_;
  std::vector<int> candidates_;
  int tournament_;
};

void give_effect(std::vector<double>& place) {
  if (std::none_of(place.begin(), place.end(), [](double x) { return std::isnan(x); })) return;
  for (double& x : place) {
    const double drawn = unif_rand();
    if (std::isnan(x)) x = drawn;
  }
}

}  // namespace

// `parents`: see parents_of(); `places`: by candidate, of its points; `chances`: by candidate, see
// chances_of_moves(); `shared`: see shared_columns(); `open`: candidates of which there may be
// newcomers; `mixed`: share of children that have two parents; `fresh`: nothing but newcomers.
// Returns of each of n children candidate, fresh (has it no parents?) and place.
// [[Rcpp::export]]
Rcpp::List bred_places(
    int n, const Rcpp::List& parents, const Rcpp::List& places, const Rcpp::List& chances,
    const Rcpp::List& shared, const std::vector<int>& open, int tournament, double mixed,
    bool fresh) {
  std::vector<Candidate> candidates;
  for (R_xlen_t i = 0; i < places.size(); ++i) candidates.emplace_back(places[i], chances[i]);
  const Parents able(parents, tournament);
  Rcpp::IntegerVector candidate(n);
  Rcpp::LogicalVector new_ones(n);
  Rcpp::List made(n);
  for (int i = 0; i < n; ++i) {
    std::vector<double> place;
    new_ones[i] = fresh || able.size() == 0 || unif_rand() < without_parents;
    if (new_ones[i]) {
      candidate[i] = one_of(open);
      place.resize(candidates[candidate[i] - 1].places.ncol());
      for (double& x : place) x = unif_rand();
    } else {
      const int first = able.first();
      candidate[i] = able.candidate[first];
      const Candidate& own = candidates[candidate[i] - 1];
      place = own.place(able.row[first] - 1);
      const std::vector<int> others = able.all_but(first);
      if (!others.empty() && unif_rand() < mixed) {
        const int second = able.draw(others);
        const int other = able.candidate[second];
        const std::vector<double> theirs = candidates[other - 1].place(able.row[second] - 1);
        const Rcpp::List with = shared[candidate[i] - 1];
        const Rcpp::IntegerMatrix columns = with[other - 1];
        // hyperparameters and choices that have an effect in it
        for (int j = 0; j < columns.ncol(); ++j) {
          const double value = theirs[columns(1, j) - 1];
          if (!std::isnan(value) && unif_rand() < taken_over) place[columns(0, j) - 1] = value;
        }
      }
      // what had no effect may have one in the child
      give_effect(place);
      own.mutate(place);
    }
    made[i] = Rcpp::wrap(place);
  }
  return Rcpp::List::create(
      Rcpp::Named("candidate") = candidate, Rcpp::Named("fresh") = new_ones,
      Rcpp::Named("place") = made);
}
