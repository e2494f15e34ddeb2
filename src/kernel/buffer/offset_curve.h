// The curve at a distance from the rings and lines of a shape, that of all of them as closed rings whose winding
// numbers add up: positive where the buffer lies, however often the curve crosses itself.
//
// Each edge contributes the rectangle between it and its copy at the distance, each corner that opens a wedge; both run
// counter-clockwise outwards and clockwise inwards, so that the sum over a polygon and these pieces is 1 or more
// exactly on the buffer (outwards) and on what is left (inwards).
#pragma once
#include "../shapes/store.h"
#include "surface.h"

namespace civic {

enum class LineEnds { round, flat, square };
enum class Corners { round, mitred, bevelled };
enum class LineSide { both, left, right };

struct BufferStyle {
  LineEnds ends = LineEnds::round;
  Corners corners = Corners::round;
  LineSide side = LineSide::both;
  int segments = 16;       // of an arc, a quarter circle
  double mitre_limit = 5;  // largest distance of a mitred corner's tip, in distances; beyond it the corner is bevelled
};

// Appends one shape: the rings as parts of a multipolygon, which is to be filled by FillRule::positive. Polygons must
// be valid, with shells counter-clockwise.
void offset_curve(const StoreView& store, int shape, double distance, const BufferStyle& style, const Surface& surface,
                  ShapeBuilder& builder);

// The ground between the rings and lines and their curve in pieces of some edges each, as parts of a multipolygon each
// of which is to be filled by FillRule::nonzero by itself.
void swept_ground(const StoreView& store, int shape, double distance, const BufferStyle& style, int edges,
                  const Surface& surface, ShapeBuilder& builder);

}  // namespace civic
