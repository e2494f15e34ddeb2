// Buffers: all that lies within a distance of a shape, or of a polygon what lies deeper inside than that.
#pragma once
#include "../crs/crs.h"
#include "../overlay/overlay.h"
#include "offset_curve.h"

namespace civic {

// One for each row, in coordinate units, with a distance a row; x holds the row, and rows of which nothing is left have
// no piece. Invalid polygons are taken by the even-odd rule.
Pieces buffer(const ShapeRows& rows, std::span<const double> distances, const BufferStyle& style);

// On longitude and latitude in degrees, with distances in metres: each shape on the azimuthal equidistant projection
// around its middle, with its edges along geodesics. What crosses the antimeridian is cut there.
Pieces geodesic_buffer(const ShapeRows& rows, const Ellipsoid& ellipsoid, std::span<const double> distances,
                       const BufferStyle& style);

}  // namespace civic
