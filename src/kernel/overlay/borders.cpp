#include "borders.h"

#include "../base/progress.h"

namespace civic {

Borders::Borders(const Arrangement& a, const Yardstick& yardstick)
    : a_(a), sizes_(a, yardstick), perimeter_(a.faces(), 0), beside_(a.faces()) {
  for (int e = 0; e < a.edges(); ++e, end_if_interrupted()) {
    const int left = a.edge(e).left, right = a.edge(e).right;
    if (left == right) continue;
    const double length = sizes_.length(e);
    for (const int side : {left, right}) perimeter_[side] += length;
    beside_[left][right] += length;
    beside_[right][left] += length;
  }
}

std::map<int, double> Borders::features_beside(int face) const {
  std::map<int, double> out;
  for (const auto& [other, length] : beside_[face])
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
