// Buffers: all that lies within a distance of a shape, or of a polygon what lies deeper inside than that.
#pragma once
#include <functional>
#include <vector>

#include "../crs/crs.h"
#include "../overlay/pieces.h"
#include "offset_curve.h"

namespace civic {

// One for each row, in coordinate units, with a distance a row; x holds the row, and rows of which nothing is left have
// no piece. Invalid polygons are taken by the even-odd rule.
Pieces buffer(const ShapeRows& rows, std::span<const double> distances, const BufferStyle& style);

// Of one shape; an empty store where nothing is left.
StoreBuffer buffer_of_shape(const StoreView& store, int shape, double distance, const BufferStyle& style,
                            const Surface& surface = {});

// On longitude and latitude in degrees, with distances in metres along the ellipsoid, true to 0.1 %: in the plane of
// degrees, where edges are straight, if the distance is short; otherwise on the azimuthal equidistant projection around
// the shape's middle, one that reaches far from there stretch by stretch. What crosses the antimeridian is cut there.
// Ends and corners of other styles, which stretches would give each of them, take one projection.
Pieces geodesic_buffer(const ShapeRows& rows, const Ellipsoid& ellipsoid, std::span<const double> distances,
                       const BufferStyle& style);

// What both of them work row by row with; no piece of a row whose distance is missing.
Pieces buffers_by_row(const ShapeRows& rows, std::span<const double> distances,
                      const std::function<StoreBuffer(int shape, double distance)>& make);

}  // namespace civic
