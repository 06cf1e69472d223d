// Which points of a search are the same, and which are next to each other.

#include <Rcpp/Lightest>
#include <algorithm>
#include <cstdint>
#include <unordered_map>
#include <vector>

namespace {

// Numbers in order of appearance, from 0, and how many there are.
std::uint64_t renumber(std::vector<std::uint64_t>& keys) {
  std::unordered_map<std::uint64_t, std::uint64_t> seen;
  seen.reserve(keys.size());
  for (std::uint64_t& key : keys) key = seen.emplace(key, seen.size()).first->second;
  return seen.size();
}

}  // namespace

// Numbers of equal rows of codes (codes_of()), from 1, in order of appearance.
// [[Rcpp::export(rng = false)]]
Rcpp::IntegerVector group_codes(const Rcpp::IntegerMatrix& codes) {
  constexpr std::uint64_t room = std::uint64_t{1} << 32;
  const int n = codes.nrow();
  std::vector<std::uint64_t> keys(n, 0);
  std::uint64_t size = 1;
  for (int j = 0; j < codes.ncol(); ++j) {
    const Rcpp::IntegerMatrix::ConstColumn column = codes(Rcpp::_, j);
    // the lowest code is -1
    const std::uint64_t most =
        n == 0 ? 1 : std::int64_t{*std::max_element(column.begin(), column.end())} + 2;
    // all codes as the digits of one number, as long as it has room
    if (size >= room) size = renumber(keys);
    for (int i = 0; i < n; ++i) keys[i] = keys[i] * most + (std::int64_t{column[i]} + 1);
    size *= most;
  }
  renumber(keys);
  Rcpp::IntegerVector group(n);
  for (int i = 0; i < n; ++i) group[i] = static_cast<int>(keys[i]) + 1;
  return group;
}

// Which rows of x are further than `beside` from every row of `known`.
// [[Rcpp::export(rng = false)]]
Rcpp::LogicalVector points_apart(
    const Rcpp::NumericMatrix& x, const Rcpp::NumericMatrix& known, double beside) {
  const int features = x.ncol();
  // a row after the other in memory
  const auto by_row = [features](const Rcpp::NumericMatrix& from) {
    std::vector<double> rows(static_cast<std::size_t>(from.nrow()) * features);
    for (int j = 0; j < features; ++j) {
      for (int i = 0; i < from.nrow(); ++i) {
        rows[static_cast<std::size_t>(i) * features + j] = from(i, j);
      }
    }
    return rows;
  };
  const std::vector<double> own = by_row(x), others = by_row(known);
  const double most = beside * beside;
  Rcpp::LogicalVector apart(x.nrow(), true);
  for (int i = 0; i < x.nrow(); ++i) {
    const double* point = own.data() + static_cast<std::size_t>(i) * features;
    for (int k = 0; k < known.nrow() && apart[i]; ++k) {
      const double* other = others.data() + static_cast<std::size_t>(k) * features;
      double squared = 0.0;
      for (int j = 0; j < features && squared <= most; ++j) {
        squared += (point[j] - other[j]) * (point[j] - other[j]);
      }
      apart[i] = squared > most;
    }
  }
  return apart;
}
