// Edges of polygons on longitude and latitude that are no borders on the globe: those along a meridian where the
// polygon goes on a turn away, as those cut at the antimeridian do, and those along a pole, which is one point.
#pragma once
#include <cmath>
#include <functional>
#include <optional>
#include <utility>

#include "store.h"

namespace civic {

bool has_seams(const StoreView& store, int shape);

struct GlobeEdge {
  double from_longitude, from_latitude, to_longitude, to_latitude;

  // Whether it closes a map of the whole world, or of a pole: such edges run along their parallel.
  bool is_full_turn() const { return std::fabs(std::fabs(to_longitude - from_longitude) - 360) <= 1e-9; }
  // Its vertices in so many pieces, but for the last.
  static constexpr int pieces_of_turn = 3600;
  std::pair<double, double> vertex_of_turn(int k) const {
    const double part = static_cast<double>(k) / pieces_of_turn;
    return {from_longitude + (to_longitude - from_longitude) * part,
            from_latitude + (to_latitude - from_latitude) * part};
  }
};

// Calls use(edge, i) for each edge of a shape's polygons that is a border, in their order, i being its first vertex; of
// one that is a seam in part, for the pieces between.
void each_border(const StoreView& store, int shape, const std::function<void(const GlobeEdge&, int i)>& use);

// Adds the borders of a shape's polygons as lines to the shape that is being built, with Z and M interpolated where an
// edge is a seam in part; how many lines.
int add_borders(const StoreView& store, int shape, ShapeBuilder& builder);

// A shape with edges that run along their parallel all the way around in pieces of a tenth of a degree, which are as
// near to it as shortest lines; nothing for one without.
std::optional<StoreBuffer> full_turns_in_pieces(const StoreView& store, int shape);

// The borders of a shape's polygons as lines, and its other parts as they are.
StoreBuffer borders_on_globe(const StoreView& store, int shape);

}  // namespace civic
