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

// Sum of c[j] sin(2 j angle) for j = 1..6, where c[0] stands for j = 1; as sin(2 angle) times a polynomial in
// cos(2 angle), as sin(j x) is sin(x) times the Chebyshev polynomial U of order j - 1 in cos(x).
class SineSeries {
 public:
  explicit SineSeries(const std::array<double, 6>& c)
      : q_{c[0] - c[2] + c[4], 2 * c[1] - 4 * c[3] + 6 * c[5], 4 * c[2] - 12 * c[4], 8 * c[3] - 32 * c[5], 16 * c[4],
           32 * c[5]} {}

  double operator()(SineCosine angle) const {
    const double x = (angle.cosine - angle.sine) * (angle.cosine + angle.sine), x2 = x * x;
    const double sum = (q_[0] + q_[1] * x) + x2 * ((q_[2] + q_[3] * x) + x2 * (q_[4] + q_[5] * x));
    return 2 * angle.sine * angle.cosine * sum;
  }

  // The same at a complex angle a + i b, from the circular and hyperbolic sines and cosines of its parts doubled. A
  // real polynomial at a complex place by Knuth's rule, in real numbers.
  struct Complex {
    double real, imaginary;
  };
  Complex operator()(SineCosine twice_a, double sinh_2b, double cosh_2b) const {
    const double zr = twice_a.cosine * cosh_2b, zi = -twice_a.sine * sinh_2b;
    const double u = 2 * zr, v = zr * zr + zi * zi;
    const double b4 = q_[4] + u * q_[5], b3 = q_[3] + u * b4 - v * q_[5], b2 = q_[2] + u * b3 - v * b4;
    const double b1 = q_[1] + u * b2 - v * b3, pr = b1 * zr + (q_[0] - v * b2), pim = b1 * zi;
    const double sr = twice_a.sine * cosh_2b, si = twice_a.cosine * sinh_2b;
    return {sr * pr - si * pim, sr * pim + si * pr};
  }

 private:
  std::array<double, 6> q_;
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
