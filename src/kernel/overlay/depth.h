// Z and M for shapes that were cut from others or put together of them in the plane.
#pragma once
#include "../shapes/store.h"

namespace civic {

// The shapes that each shape was made of: those of shape i from start[i] on, 0-based rows.
struct Origins {
  std::span<const int> start, rows;
};

struct Deepened {
  StoreBuffer store;         // a shape for each row that is not missing, in order
  std::vector<int> handles;  // 1-based, 0 for missing rows
  int flat = 0;              // shapes without Z and M though their origins have some
};

// Vertices of the origins keep their Z and M; new ones on an edge have what lies between its ends. A shape with
// vertices that lie elsewhere has none. Shapes that have Z or M themselves stay as they are.
Deepened with_depth(const ShapeRows& made, const Origins& origins, const ShapeRows& from);

}  // namespace civic
