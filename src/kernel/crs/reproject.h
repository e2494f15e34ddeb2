// Whole layers from one CRS to another: shapes that the target's map would tear are cut where it ends, long edges are
// made to follow the curve they become, and shapes with a vertex outside a domain are reported.
#pragma once
#include <vector>

#include "../shapes/store.h"
#include "transform.h"

namespace civic {

struct ReprojectOptions {
  // Largest distance, in units of the target, between an edge and the curve that the straight line between its ends
  // becomes; vertices are put in where it would be more. 0 leaves edges as they are.
  double tolerance = 0;
  int missing = 0;  // handle of a missing shape
};

struct Reprojected {
  StoreBuffer store;
  std::vector<int> handles;  // 1-based; `missing` for missing shapes and lost ones
  std::vector<int> lost;     // rows with a vertex outside a domain
  std::size_t cut = 0;       // shapes cut where the map ends
  std::size_t added = 0;     // vertices put in
};

Reprojected reproject(const ShapeRows& rows, const Crs& from, const Crs& to, const Transform& transform,
                      const ReprojectOptions& options);

}  // namespace civic
