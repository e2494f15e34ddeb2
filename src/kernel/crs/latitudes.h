// Auxiliary latitudes, which differ from the geodetic latitude by a sine series in its multiples: the conformal, the
// authalic (equal-area) and the rectifying (equidistant) latitude. Series to the sixth order in the third flattening n
// (Karney 2024, "On auxiliary latitudes", section 4; the conformal one also Karney 2011, equations 35 and 36): exact in
// double precision up to flattenings of 1/150.
#pragma once
#include <array>
#include <cmath>

namespace civic {

struct SineCosine {
  double sine, cosine;
};

inline SineCosine sine_cosine(double angle) { return {std::sin(angle), std::cos(angle)}; }

// Sum of c[j] sin(2 j angle) for j = 1..6, where c[0] stands for j = 1.
class SineSeries {
 public:
  explicit SineSeries(const std::array<double, 6>& c) : c_(c) {}

  // By Clenshaw's rule.
  double operator()(SineCosine angle) const {
    const double twice = 2 * (angle.cosine - angle.sine) * (angle.cosine + angle.sine);  // 2 cos(2 angle)
    double u1 = 0, u2 = 0;
    for (int j = 5; j >= 0; --j) {
      const double u0 = twice * u1 - u2 + c_[j];
      u2 = u1;
      u1 = u0;
    }
    return 2 * angle.sine * angle.cosine * u1;
  }
  const std::array<double, 6>& coefficients() const { return c_; }

 private:
  std::array<double, 6> c_;
};

// Sine and cosine of an angle turned a little further.
inline SineCosine turned(SineCosine angle, double by) {
  double s, c;
  if (std::fabs(by) < 0.01) {
    const double q = by * by;
    s = by * (1 - q / 6 * (1 - q / 20));
    c = 1 - q / 2 * (1 - q / 12 * (1 - q / 30));
  } else {
    s = std::sin(by);
    c = std::cos(by);
  }
  return {angle.sine * c + angle.cosine * s, angle.cosine * c - angle.sine * s};
}

class AuxiliaryLatitude {
 public:
  static AuxiliaryLatitude conformal(double third_flattening);
  static AuxiliaryLatitude authalic(double third_flattening);
  static AuxiliaryLatitude rectifying(double third_flattening);

  SineCosine of(SineCosine geodetic) const { return turned(geodetic, to_(geodetic)); }
  double of(double geodetic) const { return geodetic + to_(sine_cosine(geodetic)); }
  double geodetic(SineCosine auxiliary) const {
    return std::atan2(auxiliary.sine, auxiliary.cosine) + from_(auxiliary);
  }
  double geodetic(double auxiliary) const { return auxiliary + from_(sine_cosine(auxiliary)); }

 private:
  AuxiliaryLatitude(const std::array<double, 6>& to, const std::array<double, 6>& from) : to_(to), from_(from) {}
  SineSeries to_, from_;
};

}  // namespace civic
