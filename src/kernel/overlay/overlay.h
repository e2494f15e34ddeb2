// Overlay of two layers. Polygons, lines and points of either take part; a shape of several kinds does so with all its
// parts.
#pragma once
#include <vector>

#include "pieces.h"
#include "yardstick.h"

namespace civic {

struct OverlayKeep {
  bool both = false, only_x = false, only_y = false;
  bool touches = false;  // where two shapes meet in less than both could: polygons along borders, lines in points
};

// Pieces where both layers lie, or only one. Polygons are taken by the even-odd rule; lines and points on the border of
// a polygon lie within it.
Pieces overlay(const ShapeRows& x, const ShapeRows& y, const OverlayKeep& keep,
               const Yardstick& yardstick = Yardstick(false));

// The same with the borders of y, where they are nearer to those of x than the tolerance, brought onto them, and
// regions whose mean width is at most the tolerance joined to one beside them that the same rows of x cover. x stays as
// it is; rows of y overlap only where they did.
struct Brought {
  Pieces pieces;
  std::size_t moved = 0;            // vertices of y
  double farthest = 0;              // how far
  std::vector<double> had, covers;  // area of each row of y, before and in the end
  std::size_t thin = 0;             // regions left that are thin: all that rows of x, or of y, have there
};
Brought overlay_onto(const ShapeRows& x, const ShapeRows& y, const OverlayKeep& keep, double tolerance,
                     const Yardstick& yardstick);

}  // namespace civic
