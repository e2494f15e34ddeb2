// Shortest lines on an ellipsoid of revolution (Karney 2013, "Algorithms for geodesics", Journal of Geodesy 87): the
// inverse and the direct problem and the area under a line, by series to the sixth order in the third flattening, exact
// to some nanometres for flattenings up to 1/150. Angles are degrees, azimuths clockwise from north in (-180, 180],
// lengths and areas in the unit of the semi-major axis.
#pragma once
#include <array>

#include "ellipsoid.h"

namespace civic {

struct GeoPoint {
  double longitude, latitude;
};

struct GeodesicArc {
  double distance, azimuth1, azimuth2;  // the azimuths point forward, at the first and at the second point
  double reduced_length;                // distance between two near lines that leave the first point, per radian
  double scale;                         // how far apart two near parallel lines are at the second point (Karney's M12)
  double area;                          // between the line and the equator, positive eastward
};

struct GeodesicEnd {
  double longitude, latitude, azimuth;
  double reduced_length, scale;
};

class Geodesic {
 public:
  explicit Geodesic(const Ellipsoid& ellipsoid);

  // Latitudes beyond 90 degrees and what is not finite give NaN.
  GeodesicArc inverse(GeoPoint from, GeoPoint to) const { return solve(from, to, true); }
  // The same without the area.
  GeodesicArc line(GeoPoint from, GeoPoint to) const { return solve(from, to, false); }
  double distance(GeoPoint from, GeoPoint to) const { return solve(from, to, false).distance; }
  GeodesicEnd direct(GeoPoint from, double azimuth, double distance) const;

  double whole_area() const;  // of the ellipsoid

 private:
  static constexpr int order = 6;
  using Coefficients = std::array<double, order + 1>;  // [0] is not used
  struct Reduced;
  struct ArcEnd;
  struct Lengths;
  struct Hybrid;
  struct Start;
  struct Course;

  GeodesicArc solve(GeoPoint from, GeoPoint to, bool with_area) const;
  Reduced reduced(double latitude) const;
  Start start(const Reduced& p1, const Reduced& p2, double lam12, double slam12, double clam12) const;
  bool solve_meridian(const Reduced& p1, const Reduced& p2, double slam12, double clam12, Course& line) const;
  void solve_equator(double lam12, Course& line) const;
  void solve_short(const Start& first, double lam12, Course& line) const;
  void solve_by_newton(const Reduced& p1, const Reduced& p2, const Start& first, double slam12, double clam12,
                       Course& line) const;
  Hybrid hybrid(const Reduced& p1, const Reduced& p2, double salp1, double calp1, double slam12, double clam12) const;
  Lengths lengths(double eps, double sig12, const ArcEnd& from, const ArcEnd& to) const;
  double area_under(const Reduced& p1, const Reduced& p2, const Course& line) const;
  double a3(double eps) const;
  Coefficients c3(double eps) const;
  std::array<double, 6> c4(double eps) const;

  double a_, f_, f1_, e2_, ep2_, n_, b_, c2_, etol2_;
  std::array<double, 6> a3_;
  std::array<double, 15> c3_;
  std::array<double, 21> c4_;
};

}  // namespace civic
