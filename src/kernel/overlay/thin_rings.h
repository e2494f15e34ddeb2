// Rings of no width, which roundings leave where borders run along one another.
#pragma once
#include "../shapes/store.h"

namespace civic {

enum class Rings { holes, holes_and_parts };

// The only shape of a store, if any, without those of its polygons' rings whose mean width is below this.
StoreBuffer without_thin_rings(StoreBuffer made, Rings which, double width);

}  // namespace civic
