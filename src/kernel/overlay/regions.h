// Faces of an arrangement that bear the same label side by side are one region; thin ones join those beside them.
#pragma once
#include <functional>
#include <map>
#include <vector>

#include "../base/disjoint_sets.h"
#include "arrangement.h"
#include "yardstick.h"

namespace civic {

class Regions {
 public:
  Regions(const Arrangement& arrangement, const CellSizes& sizes, std::vector<int> labels);  // a label for each face

  int region(int face) { return sets_.find(face); }  // a face that stands for all of it
  int label(int region) const { return labels_[region]; }
  double area(int region) const { return area_[region]; }
  // Whether the mean width, the area over half the perimeter, is at most the tolerance.
  bool is_thin(int region, double tolerance) const { return 2 * area_[region] <= tolerance * perimeter_[region]; }
  // The regions beside it, by the length of their common border.
  const std::map<int, double>& beside(int region) const { return beside_[region]; }

  // Thin regions, the thinnest first, take the label of the region beside them with the longest common border among
  // those that they may join; of two thin ones the larger keeps its own. What is thin in the end has none to join.
  using MayJoin = std::function<bool(int region, int other)>;
  void join_thin(double tolerance, const MayJoin& may_join);

 private:
  double width(int region) const { return 2 * area_[region] / perimeter_[region]; }
  int partner(int region, const MayJoin& may_join) const;
  int unite(int one, int other);
  int relabel(int region, int label);

  DisjointSets sets_;
  std::vector<int> labels_;
  std::vector<double> area_, perimeter_;
  std::vector<std::map<int, double>> beside_;
};

}  // namespace civic
