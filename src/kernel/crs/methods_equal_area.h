// Equal-area methods.
#pragma once
#include "method.h"

namespace civic {

// EPSG method 9822 (Guidance Note 373-7-2, section 3.2.1).
class AlbersEqualArea : public Method {
 public:
  explicit AlbersEqualArea(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double cone_, c_, origin_radius_;
};

// EPSG method 9820, of any aspect (Guidance Note 373-7-2, section 3.2.2).
class LambertAzimuthalEqualArea : public Method {
 public:
  explicit LambertAzimuthalEqualArea(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  SineCosine centre_;
  double stretch_ = 1;
};

// EPSG method 9835 (Guidance Note 373-7-2, section 3.2.3).
class LambertCylindricalEqualArea : public Method {
 public:
  explicit LambertCylindricalEqualArea(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double scale_;
};

// EPSG methods 9827 and 9828 (Guidance Note 373-7-2, section 3.2.4; Snyder 1987, section 19).
class Bonne : public Method {
 public:
  explicit Bonne(const Crs& crs);
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;

 private:
  double apex_, arc_;
};

// Snyder 1987, section 30.
class Sinusoidal : public Method {
 public:
  explicit Sinusoidal(const Crs& crs) : Method(crs) {}
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;
};

// Snyder 1987, section 31, on the sphere of the semi-major axis.
class Mollweide : public Method {
 public:
  explicit Mollweide(const Crs& crs) : Method(crs) {}
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;
};

// EPSG method 1078 (Šavrič, Patterson and Jenny 2018, "The Equal Earth map projection").
class EqualEarth : public Method {
 public:
  explicit EqualEarth(const Crs& crs) : Method(crs) {}
  XY forward(double longitude, double latitude) const;
  LonLat inverse(double x, double y) const;
};

}  // namespace civic
