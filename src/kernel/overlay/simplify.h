// Fewer vertices for the same shapes (Visvalingam and Whyatt 1993): vertices that make the smallest triangles with
// their neighbours go first.
#pragma once
#include "pieces.h"

namespace civic {

// Vertices whose triangle is smaller than `area` go, but for those where borders or lines meet or end, and where the
// triangle holds another vertex, so that nothing comes to cross or to lie elsewhere. Shared borders stay shared; with
// `alone` each row is simplified by itself. `on_globe` coordinates are degrees and `area` is in square metres; vertices
// at the ends of the map, from -180 to 180 and -90 to 90, stay. x holds the row.
Pieces simplify(const ShapeRows& rows, double area, bool alone, bool on_globe);

}  // namespace civic
