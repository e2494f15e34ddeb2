// The size and shape of an ellipsoid of revolution.
#pragma once
#include <string>

namespace civic {

struct Ellipsoid {
  std::string name;
  double semi_major = 6378137.0;              // metres
  double inverse_flattening = 298.257223563;  // 0 for a sphere

  double flattening() const { return inverse_flattening == 0 ? 0 : 1 / inverse_flattening; }
  double e2() const { return flattening() * (2 - flattening()); }
};

}  // namespace civic
