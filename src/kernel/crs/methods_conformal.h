// Conformal methods.
#pragma once
#include <complex>

#include "method.h"

namespace civic {

// EPSG method 9807 by the Krueger series to the sixth order in n (Karney 2011, section 4): better than 5 nm within
// 3900 km of the central meridian; NaN beyond some 56 degrees from it, where the series no longer serves.
class TransverseMercator : public Method {
 public:
  explicit TransverseMercator(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double scale_, origin_ = 0;
  SineSeries alpha_, beta_;
};

// EPSG method 9824, transverse Mercator in zones whose number leads the easting (Guidance Note 373-7-2, 3.5.3.4).
class ZonedTransverseMercator : public TransverseMercator {
 public:
  explicit ZonedTransverseMercator(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double central_meridian_of(double zone) const { return (zone - 0.5) * width_; }
  double width_, false_easting_, zone_step_;
};

// EPSG methods 9801, 9802, 9803, 9826 and 1051 (Guidance Note 373-7-2, section 3.1.1).
class LambertConformalConic : public Method {
 public:
  explicit LambertConformalConic(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double radius_at(double psi) const { return factor_ * std::exp(-cone_ * psi); }
  double cone_, factor_, origin_radius_, turn_ = 0;
};

// EPSG method 9817, the series as published (Guidance Note 373-7-2, section 3.1.1.5).
class LambertNearConformal : public Method {
 public:
  explicit LambertNearConformal(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double arc(double latitude) const;
  double arc_[5], cubic_, scale_, radius_, sine_, origin_arc_ = 0;
};

// EPSG methods 9804 and 9805 (Guidance Note 373-7-2, section 3.5.1).
class Mercator : public Method {
 public:
  explicit Mercator(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double scale_, origin_;
};

// EPSG method 1024: the sphere's formulae on an ellipsoid's coordinates (Guidance Note 373-7-2, section 3.5.2).
class WebMercator : public Method {
 public:
  explicit WebMercator(const Crs& crs) : Method(crs) {}
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;
};

// EPSG methods 9810, 9829 and 9830 (Guidance Note 373-7-2, section 3.3.2).
class PolarStereographic : public Method {
 public:
  explicit PolarStereographic(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double pole_, factor_, origin_radius_ = 0;  // pole_ is 1 in the north, -1 in the south
};

// EPSG method 9809 through the Gauss conformal sphere (Guidance Note 373-7-2, section 3.3.1).
class ObliqueStereographic : public Method {
 public:
  explicit ObliqueStereographic(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double n_, shift_, diameter_;
  SineCosine centre_;
};

// The stereographic projection of the conformal sphere (Snyder 1987, section 21), for centres off the poles.
class Stereographic : public Method {
 public:
  explicit Stereographic(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double diameter_;
  SineCosine centre_;
};

// EPSG methods 9812 and 9815 (Guidance Note 373-7-2, section 3.5.4), and the one through two points (Snyder 1987,
// section 9, alternate A).
class ObliqueMercator : public Method {
 public:
  explicit ObliqueMercator(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  void centre_by_azimuth(const Crs& crs, double latitude, double d);
  void centre_by_points(const Crs& crs, double d);
  double a_, b_, h_, sin_gamma_, cos_gamma_, sin_grid_ = 0, cos_grid_ = 1, lambda_, centre_ = 0;
};

// EPSG methods 9819, 1041, 1042 and 1043 (Guidance Note 373-7-2, section 3.4): westing and southing, or easting and
// northing where the axes point so.
class Krovak : public Method {
 public:
  explicit Krovak(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  XY modification(double southing, double westing) const;
  double b_, shift_, n_, radius_, semi_major_, sign_;
  bool modified_;
  SineCosine axis_;
};

// EPSG method 9813 (Guidance Note 373-7-2, section 3.5.5).
class LabordeObliqueMercator : public Method {
 public:
  explicit LabordeObliqueMercator(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double b_, c_, radius_;
  SineCosine centre_;
  std::complex<double> g_;
};

// EPSG method 9811 (Guidance Note 373-7-2, section 3.5.6; LINZS25002, appendix).
class NewZealandMapGrid : public Method {
 public:
  explicit NewZealandMapGrid(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double origin_;
};

}  // namespace civic
