#include "regions.h"

#include <queue>
#include <tuple>
#include <utility>

#include "../base/progress.h"

namespace civic {

Regions::Regions(const Arrangement& a, const CellSizes& sizes, std::vector<int> labels)
    : sets_(static_cast<std::size_t>(a.faces())),
      labels_(std::move(labels)),
      area_(a.faces(), 0),
      perimeter_(a.faces(), 0),
      beside_(a.faces()) {
  for (int e = 0; e < a.edges(); ++e)
    if (labels_[a.edge(e).left] == labels_[a.edge(e).right]) sets_.join(a.edge(e).left, a.edge(e).right);
  for (int face = 0; face < a.faces(); ++face) area_[region(face)] += sizes.area(face);
  for (int e = 0; e < a.edges(); ++e, end_if_interrupted()) {
    const int left = region(a.edge(e).left), right = region(a.edge(e).right);
    if (left == right) continue;
    const double length = sizes.length(e);
    for (const int side : {left, right}) perimeter_[side] += length;
    beside_[left][right] += length;
    beside_[right][left] += length;
  }
}

// The region that it may join with the longest common border, -1 for none.
int Regions::partner(int region, const MayJoin& may_join) const {
  int best = -1;
  double most = 0;
  for (const auto& [other, length] : beside_[region])
    if (length > most && may_join(region, other)) {
      most = length;
      best = other;
    }
  return best;
}

// The one with fewer neighbours becomes part of the other.
int Regions::unite(int one, int other) {
  const auto [from, to] = beside_[one].size() < beside_[other].size() ? std::pair(one, other) : std::pair(other, one);
  perimeter_[to] += perimeter_[from] - 2 * beside_[from][to];
  area_[to] += area_[from];
  for (const auto& [neighbour, length] : beside_[from]) {
    beside_[neighbour].erase(from);
    if (neighbour == to) continue;
    beside_[neighbour][to] += length;
    beside_[to][neighbour] += length;
  }
  beside_[from].clear();
  sets_.join(from, to);
  return to;
}

// The region it has become, with all beside it that bear the label.
int Regions::relabel(int region, int label) {
  std::vector<int> alike;
  for (const auto& [other, length] : beside_[region])
    if (labels_[other] == label) alike.push_back(other);
  for (const int other : alike) region = unite(region, other);
  labels_[region] = label;
  return region;
}

void Regions::join_thin(double tolerance, const MayJoin& may_join) {
  using Entry = std::tuple<double, int>;
  for (bool any = true; any;) {  // as a region may become one that others may join
    any = false;
    std::priority_queue<Entry, std::vector<Entry>, std::greater<>> thinnest;
    auto note = [&](int region) {
      if (!beside_[region].empty() && is_thin(region, tolerance)) thinnest.push({width(region), region});
    };
    for (int face = 0; face < static_cast<int>(labels_.size()); ++face)
      if (region(face) == face) note(face);
    for (; !thinnest.empty(); end_if_interrupted()) {
      const auto [seen, thin] = thinnest.top();
      thinnest.pop();
      if (region(thin) != thin || seen != width(thin)) continue;  // has changed since
      const int other = partner(thin, may_join);
      if (other < 0) continue;
      any = true;
      const bool gives = is_thin(other, tolerance) && area_[other] < area_[thin] && may_join(other, thin);
      note(gives ? relabel(other, labels_[thin]) : relabel(thin, labels_[other]));
    }
  }
}

}  // namespace civic
