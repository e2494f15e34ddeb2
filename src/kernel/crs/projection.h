// Projection methods: batches of longitude and latitude to easting and northing and back.
#pragma once
#include <cstddef>
#include <memory>

#include "crs.h"

namespace civic {

// Works in place on n coordinates. Angles are radians, longitudes from the CRS's own prime meridian; lengths are in
// the CRS's unit. Coordinates outside the method's domain become NaN in both columns.
class Projection {
 public:
  virtual ~Projection() = default;
  virtual void forward(double* x, double* y, std::size_t n) const = 0;  // longitude, latitude -> easting, northing
  virtual void inverse(double* x, double* y, std::size_t n) const = 0;
};

// The method of a projected or geographic CRS; throws CrsError that names the method where it is not available.
std::unique_ptr<Projection> make_projection(const Crs& crs);

// Whether the maps of a method end half a turn from their central meridian, so that shapes across it are torn; the
// others are whole around their centre.
bool ends_at_antimeridian(const std::string& method);

}  // namespace civic
