#include "projection.h"

#include <algorithm>
#include <cmath>
#include <iterator>
#include <map>

#include "../base/error.h"
#include "../shapes/store.h"
#include "methods_conformal.h"
#include "methods_equal_area.h"
#include "methods_other.h"

namespace civic {
namespace {

// Longitude and latitude themselves, in the CRS's angular unit.
class Geographic : public Projection {
 public:
  explicit Geographic(const Crs& crs) : radians_(crs.unit_size * pi / 180) {}
  void forward(double* x, double* y, std::size_t n) const override { scale(x, y, n, 1 / radians_); }
  void inverse(double* x, double* y, std::size_t n) const override {
    scale(x, y, n, radians_);
    for (std::size_t i = 0; i < n; ++i)
      if (std::fabs(y[i]) > pi / 2 * (1 + 1e-12)) x[i] = y[i] = nan_value;
  }

 private:
  static void scale(double* x, double* y, std::size_t n, double by) {
    for (std::size_t i = 0; i < n; ++i) {
      x[i] *= by;
      y[i] *= by;
    }
  }
  double radians_;
};

// Where the axes of a method point: 1 east or north, -1 west or south; and the sign false coordinates are added with.
struct Axes {
  double x = 1, y = 1, offset = 1;
};

// Runs a method's formulae, which know neither units nor false coordinates nor directions, over a batch.
template <class Method>
class Projected : public Projection {
 public:
  Projected(const Crs& crs, Axes axes)
      : method_(crs),
        central_meridian_(method_.central_meridian),
        scale_x_(axes.x * crs.datum.ellipsoid.semi_major / crs.unit_size),
        scale_y_(axes.y * crs.datum.ellipsoid.semi_major / crs.unit_size),
        false_x_(axes.offset * crs.parameter("false_easting", 0)),
        false_y_(axes.offset * crs.parameter("false_northing", 0)) {}

  void forward(double* x, double* y, std::size_t n) const override {
    for (std::size_t i = 0; i < n; ++i) {
      XY p{nan_value, nan_value};
      if (std::fabs(y[i]) <= pi / 2 * (1 + 1e-12)) p = method_.forward(wrapped(x[i] - central_meridian_), y[i]);
      x[i] = false_x_ + scale_x_ * p.x;
      y[i] = false_y_ + scale_y_ * p.y;
      if (!std::isfinite(x[i]) || !std::isfinite(y[i])) x[i] = y[i] = nan_value;
    }
  }

  void inverse(double* x, double* y, std::size_t n) const override {
    for (std::size_t i = 0; i < n; ++i) {
      const LonLat s = method_.inverse((x[i] - false_x_) / scale_x_, (y[i] - false_y_) / scale_y_);
      x[i] = wrapped(s.longitude + central_meridian_);
      y[i] = s.latitude;
      if (!std::isfinite(x[i]) || !(std::fabs(y[i]) <= pi / 2 * (1 + 1e-12))) x[i] = y[i] = nan_value;
    }
  }

 private:
  Method method_;
  double central_meridian_, scale_x_, scale_y_, false_x_, false_y_;
};

using Maker = std::unique_ptr<Projection> (*)(const Crs&);

template <class Method, int x = 1, int y = 1, int offset = 1>
std::unique_ptr<Projection> projected(const Crs& crs) {
  return std::make_unique<Projected<Method>>(crs, Axes{x, y, offset});
}

// By the EPSG name of the method, or the name of the field where EPSG has none.
const std::map<std::string, Maker>& makers() {
  static const std::map<std::string, Maker> all{
      {"Albers Equal Area", projected<AlbersEqualArea>},
      {"American Polyconic", projected<AmericanPolyconic>},
      {"Azimuthal Equidistant", projected<AzimuthalEquidistant>},
      {"Bonne", projected<Bonne>},
      {"Bonne (South Orientated)", projected<Bonne, -1, -1>},
      {"Cassini-Soldner", projected<CassiniSoldner>},
      {"Colombia Urban", projected<ColombiaUrban>},
      {"Equal Earth", projected<EqualEarth>},
      {"Equidistant Conic", projected<EquidistantConic>},
      {"Equidistant Cylindrical", projected<EquidistantCylindrical>},
      {"Gnomonic", projected<Gnomonic>},
      {"Guam Projection", projected<GuamProjection>},
      {"Hotine Oblique Mercator (two points)", projected<ObliqueMercator>},
      {"Hotine Oblique Mercator (variant A)", projected<ObliqueMercator>},
      {"Hotine Oblique Mercator (variant B)", projected<ObliqueMercator>},
      {"Hyperbolic Cassini-Soldner", projected<CassiniSoldner>},
      {"Krovak", projected<Krovak>},
      {"Krovak (North Orientated)", projected<Krovak, 1, 1, -1>},
      {"Krovak Modified", projected<Krovak>},
      {"Krovak Modified (North Orientated)", projected<Krovak, 1, 1, -1>},
      {"Laborde Oblique Mercator", projected<LabordeObliqueMercator>},
      {"Lambert Azimuthal Equal Area", projected<LambertAzimuthalEqualArea>},
      {"Lambert Conic Conformal (1SP)", projected<LambertConformalConic>},
      {"Lambert Conic Conformal (2SP)", projected<LambertConformalConic>},
      {"Lambert Conic Conformal (2SP Belgium)", projected<LambertConformalConic>},
      {"Lambert Conic Conformal (2SP Michigan)", projected<LambertConformalConic>},
      {"Lambert Conic Conformal (West Orientated)", projected<LambertConformalConic, -1, 1>},
      {"Lambert Conic Near-Conformal", projected<LambertNearConformal>},
      {"Lambert Cylindrical Equal Area", projected<LambertCylindricalEqualArea>},
      {"Mercator (variant A)", projected<Mercator>},
      {"Mercator (variant B)", projected<Mercator>},
      {"Miller Cylindrical", projected<MillerCylindrical>},
      {"Modified Azimuthal Equidistant", projected<ModifiedAzimuthalEquidistant>},
      {"Mollweide", projected<Mollweide>},
      {"New Zealand Map Grid", projected<NewZealandMapGrid>},
      {"Oblique Stereographic", projected<ObliqueStereographic>},
      {"Orthographic", projected<Orthographic>},
      {"Polar Stereographic (variant A)", projected<PolarStereographic>},
      {"Polar Stereographic (variant B)", projected<PolarStereographic>},
      {"Polar Stereographic (variant C)", projected<PolarStereographic>},
      {"Popular Visualisation Pseudo Mercator", projected<WebMercator>},
      {"Robinson", projected<Robinson>},
      {"Sinusoidal", projected<Sinusoidal>},
      {"Stereographic", projected<Stereographic>},
      {"Transverse Mercator", projected<TransverseMercator>},
      {"Transverse Mercator (South Orientated)", projected<TransverseMercator, -1, -1>},
      {"Transverse Mercator Zoned Grid System", projected<ZonedTransverseMercator>},
      {"Winkel Tripel", projected<WinkelTripel>},
  };
  return all;
}

}  // namespace

bool ends_at_antimeridian(const std::string& method) {
  static const char* const whole[] = {
      "Azimuthal Equidistant", "Colombia",    "Gnomonic", "Hotine",       "Krovak", "Laborde",
      "Lambert Azimuthal",     "Modified Az", "Oblique",  "Orthographic", "Polar",  "Stereographic",
      "Transverse Mercator"};
  const bool zoned = method == "Transverse Mercator Zoned Grid System";
  return zoned || std::none_of(std::begin(whole), std::end(whole),
                               [&](const char* start) { return method.rfind(start, 0) == 0; });
}

std::unique_ptr<Projection> make_projection(const Crs& crs) {
  if (crs.kind == CrsKind::geographic) return std::make_unique<Geographic>(crs);
  if (crs.kind != CrsKind::projected)
    throw CrsError("coordinates on the " + std::string(kind_name(crs.kind)) + " CRS " + crs.name +
                   " cannot be reprojected");
  const auto maker = makers().find(crs.method);
  if (maker == makers().end())
    throw CrsError("the projection method \"" + crs.method + "\" of " + (crs.code.empty() ? crs.name : crs.code) +
                   " is not available");
  return maker->second(crs);
}

}  // namespace civic
