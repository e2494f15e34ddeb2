// Methods that keep distances from a point or a line, views, and compromises for the whole world.
#pragma once
#include <array>

#include "../geodesy/geodesic.h"
#include "method.h"

namespace civic {

// EPSG methods 9806 and 9833, the truncated series as published (Guidance Note 373-7-2, section 3.6.1).
class CassiniSoldner : public Method {
 public:
  explicit CassiniSoldner(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double origin_;
  bool hyperbolic_;
};

// EPSG method 1052, Colombia Urban (Guidance Note 373-7-2): lengths on a plane at the height of a town, a second-order
// series around its origin.
class ColombiaUrban : public Method {
 public:
  explicit ColombiaUrban(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double origin_, height_;  // latitude; height in semi-major axes
  double raised_, radius_, bend_;
};

// EPSG method 1028 (Guidance Note 373-7-2, section 3.6.2).
class EquidistantCylindrical : public Method {
 public:
  explicit EquidistantCylindrical(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double scale_, origin_;
};

// EPSG method 9818 (Guidance Note 373-7-2, section 3.6.3; Snyder 1987, section 18).
class AmericanPolyconic : public Method {
 public:
  explicit AmericanPolyconic(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double origin_;
};

// Snyder 1987, section 16; EPSG method 1119.
class EquidistantConic : public Method {
 public:
  explicit EquidistantConic(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double cone_, g_, origin_radius_;
};

// EPSG method 1125: true geodesic distance and azimuth from the centre.
class AzimuthalEquidistant : public Method {
 public:
  explicit AzimuthalEquidistant(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 protected:
  Geodesic geodesic_;
  double origin_;  // degrees
};

// The ellipsoidal gnomonic projection (Karney 2013, section 8): lines through the centre are geodesics.
class Gnomonic : public AzimuthalEquidistant {
 public:
  using AzimuthalEquidistant::AzimuthalEquidistant;
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;
};

// EPSG method 9832, the series as published (Guidance Note 373-7-2, section 3.6.4).
class ModifiedAzimuthalEquidistant : public Method {
 public:
  explicit ModifiedAzimuthalEquidistant(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double origin_, normal_, g_;
  SineCosine centre_;
};

// EPSG method 9831 (Guidance Note 373-7-2, section 3.6.5).
class GuamProjection : public Method {
 public:
  explicit GuamProjection(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double origin_;
};

// EPSG method 9840, the ellipsoid seen from far away (Guidance Note 373-7-2, section 3.3.5).
class Orthographic : public Method {
 public:
  explicit Orthographic(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  SineCosine centre_;
  double normal_;
};

// Robinson 1974, "A new map projection: its development and characteristics": a table, joined by cubic splines; on the
// sphere of the semi-major axis.
class Robinson : public Method {
 public:
  explicit Robinson(const Crs& crs) : Method(crs) {}
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;
};

// Snyder 1993, "Flattening the Earth", page 231, on the sphere of the semi-major axis. The standard parallel is that of
// the cylindrical half, acos(2 / pi) unless the CRS says otherwise.
class WinkelTripel : public Method {
 public:
  explicit WinkelTripel(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double cosine_;
};

// Snyder 1987, section 11, on the sphere of the semi-major axis.
class MillerCylindrical : public Method {
 public:
  explicit MillerCylindrical(const Crs& crs) : Method(crs) {}
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;
};

}  // namespace civic
