// How faces of an arrangement lie beside one another.
#pragma once
#include <map>

#include "arrangement.h"
#include "yardstick.h"

namespace civic {

class Borders {
 public:
  Borders(const Arrangement& arrangement, const Yardstick& yardstick);

  double area(int face) const { return sizes_.area(face); }
  // Whether the mean width of the face, its area over half its perimeter, is at most the tolerance.
  bool is_thin(int face, double tolerance) const { return 2 * area(face) <= tolerance * perimeter_[face]; }
  // The features beside it, and the one other than `without` with the longest border, -1 for none.
  std::map<int, double> features_beside(int face) const;
  int longest(int face, int without) const;

 private:
  const Arrangement& a_;
  CellSizes sizes_;
  std::vector<double> perimeter_;
  std::vector<std::map<int, double>> beside_;  // faces, by the length of the common border
};

}  // namespace civic
