// How faces of an arrangement, or pieces of faces that the same features cover, lie beside one another.
#pragma once
#include <map>

#include "arrangement.h"

namespace civic {

class Borders {
 public:
  enum Join { no_faces, same_cover };
  Borders(const Arrangement& arrangement, Join join);

  int piece(int face) const { return group_[face]; }  // a face that stands for all of the piece
  double area(int face) const { return area_[piece(face)]; }
  // Whether the mean width of the face's piece, its area over half its perimeter, is at most the tolerance.
  bool is_thin(int face, double tolerance) const { return 2 * area(face) <= tolerance * perimeter_[piece(face)]; }
  // The pieces beside it, by the length of their common border.
  const std::map<int, double>& beside(int face) const { return beside_[piece(face)]; }
  // The features beside it, and the one other than `without` with the longest border, -1 for none.
  std::map<int, double> features_beside(int face) const;
  int longest(int face, int without) const;

 private:
  const Arrangement& a_;
  std::vector<int> group_;
  std::vector<double> area_, perimeter_;
  std::vector<std::map<int, double>> beside_;
};

}  // namespace civic
