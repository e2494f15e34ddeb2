#include "method.h"

#include "../base/error.h"

namespace civic {

Method::Method(const Crs& crs)
    : ellipsoid(crs.datum.ellipsoid), central_meridian(angle_parameter(crs, "central_meridian")) {}

double angle_parameter(const Crs& crs, const std::string& name) {
  const double value = crs.parameter(name, 0);
  if (!(std::fabs(value) <= 360))
    throw CrsError("the parameter " + name + " of " + crs.name + " is not an angle within 360 degrees");
  return value * degree;
}

double latitude_parameter(const Crs& crs, const std::string& name) {
  const double latitude = angle_parameter(crs, name);
  if (!(std::fabs(latitude) <= quarter_turn * (1 + 1e-12)))
    throw CrsError("the parameter " + name + " of " + crs.name + " is not a latitude");
  return latitude;
}

double scale_parameter(const Crs& crs) {
  const double scale = crs.parameter("scale_factor", 1);
  if (!(scale > 0) || !std::isfinite(scale)) throw CrsError("the scale factor of " + crs.name + " is not above 0");
  return scale;
}

LocalDirection seen_from(SineCosine centre, SineCosine latitude, double longitude) {
  const double c = std::cos(longitude);
  return {latitude.cosine * std::sin(longitude), centre.cosine * latitude.sine - centre.sine * latitude.cosine * c,
          centre.sine * latitude.sine + centre.cosine * latitude.cosine * c};
}

SphericalPoint point_seen(SineCosine centre, LocalDirection d) {
  const double axis = d.up * centre.sine + d.north * centre.cosine;
  const double outward = d.up * centre.cosine - d.north * centre.sine;
  return {d.east == 0 && outward == 0 ? 0 : std::atan2(d.east, outward), {axis, std::hypot(outward, d.east)}};
}

}  // namespace civic
