#include "borders.h"

#include <algorithm>

#include "../disjoint_sets.h"

namespace civic {

Borders::Borders(const Arrangement& a, Join join)
    : a_(a), group_(a.faces()), area_(a.faces(), 0), perimeter_(a.faces(), 0), beside_(a.faces()) {
  DisjointSets pieces(static_cast<std::size_t>(a.faces()));
  for (int e = 0; join == same_cover && e < a.edges(); ++e) {
    const auto left = a.cover(a.edge(e).left), right = a.cover(a.edge(e).right);
    if (!left.empty() && std::equal(left.begin(), left.end(), right.begin(), right.end()))
      pieces.join(a.edge(e).left, a.edge(e).right);
  }
  for (int face = 0; face < a.faces(); ++face) group_[face] = pieces.find(face);
  for (int face = 1; face < a.faces(); ++face) area_[piece(face)] += a.area(face);
  for (int e = 0; e < a.edges(); ++e) {
    const int left = piece(a.edge(e).left), right = piece(a.edge(e).right);
    if (left == right) continue;
    const double length = a.length(e);
    for (const int side : {left, right}) perimeter_[side] += length;
    beside_[left][right] += length;
    beside_[right][left] += length;
  }
}

std::map<int, double> Borders::features_beside(int face) const {
  std::map<int, double> out;
  for (const auto& [other, length] : beside(face))
    for (const int feature : a_.cover(other)) out[feature] += length;
  return out;
}

int Borders::longest(int face, int without) const {
  int best = -1;
  double most = 0;
  for (const auto& [feature, length] : features_beside(face))
    if (feature != without && length > most) {
      most = length;
      best = feature;
    }
  return best;
}

}  // namespace civic
