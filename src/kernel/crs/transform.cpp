#include "transform.h"

#include <algorithm>
#include <cmath>

#include "../error.h"
#include "../parallel.h"
#include "conformal.h"

namespace civic {
namespace {

constexpr double degree = M_PI / 180;

struct Linear {
  double matrix[3][3], offset[3];
};

// EPSG method 9606, position vector (Guidance Note 373-7-2, section 4.2.3), to WGS 84.
Linear to_wgs84(const DatumShift& s) {
  const double second = degree / 3600, rx = s[3] * second, ry = s[4] * second, rz = s[5] * second;
  const double scale = 1 + s[6] * 1e-6;
  return {{{scale, -rz * scale, ry * scale}, {rz * scale, scale, -rx * scale}, {-ry * scale, rx * scale, scale}},
          {s[0], s[1], s[2]}};
}

// The exact inverse of a linear map.
Linear inverted(const Linear& l) {
  const auto& m = l.matrix;
  auto cofactor = [&](int r, int c) {
    const int r1 = (r + 1) % 3, r2 = (r + 2) % 3, c1 = (c + 1) % 3, c2 = (c + 2) % 3;
    return m[r1][c1] * m[r2][c2] - m[r1][c2] * m[r2][c1];
  };
  const double det = m[0][0] * cofactor(0, 0) + m[0][1] * cofactor(0, 1) + m[0][2] * cofactor(0, 2);
  Linear out{};
  for (int r = 0; r < 3; ++r)
    for (int c = 0; c < 3; ++c) out.matrix[r][c] = cofactor(c, r) / det;
  for (int r = 0; r < 3; ++r)
    for (int c = 0; c < 3; ++c) out.offset[r] -= out.matrix[r][c] * l.offset[c];
  return out;
}

Linear joined(const Linear& first, const Linear& then) {
  Linear out{};
  for (int r = 0; r < 3; ++r) {
    out.offset[r] = then.offset[r];
    for (int k = 0; k < 3; ++k) {
      out.offset[r] += then.matrix[r][k] * first.offset[k];
      for (int c = 0; c < 3; ++c) out.matrix[r][c] += then.matrix[r][k] * first.matrix[k][c];
    }
  }
  return out;
}

const DatumShift& shift_of(const Datum& datum) {
  if (!datum.shift)
    throw CrsError("no published shift to WGS 84 is known for the datum \"" + datum.name +
                   "\"; state one as TOWGS84[…] in well-known text");
  return *datum.shift;
}

// Geocentric to geographic by Bowring's rule repeated on the tangent of the reduced latitude.
void to_geographic(const Ellipsoid& e, double x, double y, double z, double& longitude, double& latitude,
                   double& height) {
  const double a = e.semi_major, e2 = e.e2(), b = a * (1 - e.flattening()), second_e2 = e2 / (1 - e2);
  const double p = std::hypot(x, y);
  longitude = std::atan2(y, x);
  double reduced = std::atan2(z * a, p * b);
  for (int round = 0; round < 3; ++round) {
    const double s = std::sin(reduced), c = std::cos(reduced);
    latitude = std::atan2(z + second_e2 * b * s * s * s, p - e2 * a * c * c * c);
    reduced = std::atan2((1 - e.flattening()) * std::sin(latitude), std::cos(latitude));
  }
  const double s = std::sin(latitude), c = std::cos(latitude);
  const double normal = a / std::sqrt(1 - e2 * s * s);
  height = p * c + (z + e2 * normal * s) * s - normal;
}

}  // namespace

DatumStep::DatumStep(const Datum& from, const Datum& to) : from_(from.ellipsoid), to_(to.ellipsoid) {
  const Linear all = joined(to_wgs84(shift_of(from)), inverted(to_wgs84(shift_of(to))));
  std::copy(&all.matrix[0][0], &all.matrix[0][0] + 9, &matrix_[0][0]);
  std::copy(all.offset, all.offset + 3, offset_);
}

void DatumStep::apply(double* longitude, double* latitude, double* height, std::size_t n) const {
  const double a = from_.semi_major, e2 = from_.e2();
  for (std::size_t i = 0; i < n; ++i) {
    const double s = std::sin(latitude[i]), c = std::cos(latitude[i]), normal = a / std::sqrt(1 - e2 * s * s);
    const double from[3] = {(normal + height[i]) * c * std::cos(longitude[i]),
                            (normal + height[i]) * c * std::sin(longitude[i]), (normal * (1 - e2) + height[i]) * s};
    double to[3];
    for (int r = 0; r < 3; ++r)
      to[r] = offset_[r] + matrix_[r][0] * from[0] + matrix_[r][1] * from[1] + matrix_[r][2] * from[2];
    to_geographic(to_, to[0], to[1], to[2], longitude[i], latitude[i], height[i]);
  }
}

void DatumStep::apply(double* longitude, double* latitude, std::size_t n) const {
  for (std::size_t i = 0; i < n; ++i) {
    double height = 0;
    apply(longitude + i, latitude + i, &height, 1);
  }
}

namespace {

bool same_datum(const Datum& a, const Datum& b) {
  return a.ellipsoid.semi_major == b.ellipsoid.semi_major &&
         a.ellipsoid.inverse_flattening == b.ellipsoid.inverse_flattening &&
         (same_datum_name(a.name, b.name) || (a.shift && a.shift == b.shift));
}

std::string label(const Crs& crs) { return crs.code.empty() ? crs.name : crs.code; }

}  // namespace

Transform::Transform(const Crs& from, const Crs& to)
    : from_(make_projection(from)),
      to_(make_projection(to)),
      meridian_from_(from.meridian_degrees * degree),
      meridian_to_(to.meridian_degrees * degree) {
  if (from.kind == CrsKind::projected) steps_.push_back("inverse " + from.method + " of " + label(from));
  if (!same_datum(from.datum, to.datum)) {
    datum_ = std::make_unique<DatumStep>(from.datum, to.datum);
    accuracy_ = std::hypot(from.datum.shift_accuracy, to.datum.shift_accuracy);
    steps_.push_back("datum shift " + from.datum.name + " to " + to.datum.name);
  }
  if (to.kind == CrsKind::projected) steps_.push_back(to.method + " of " + label(to));
}

void Transform::apply(double* x, double* y, std::size_t n) const {
  parallel_for(n, 4096, [&](std::size_t begin, std::size_t end) { apply_batch(x + begin, y + begin, end - begin); });
}

std::vector<char> Transform::apply(StoreBuffer& store) const {
  apply(store.x.data(), store.y.data(), store.x.size());
  const StoreView view = store.view();
  const StoreTarget target = store.target();
  std::vector<char> failed(view.size(), 0);
  parallel_for(view.size(), 1024, [&](std::size_t begin, std::size_t end) {
    for (int shape = static_cast<int>(begin); shape < static_cast<int>(end); ++shape) {
      Box box;
      const IndexRange v = view.shape_vertices(shape);
      for (int i = v.begin; i < v.end; ++i) {
        failed[shape] |= std::isnan(view.x[i]);
        box.add(view.x[i], view.y[i]);
      }
      target.boxes[shape] = box;
    }
    orient_rings(target, {static_cast<int>(begin), static_cast<int>(end)});
  });
  return failed;
}

void Transform::apply_batch(double* x, double* y, std::size_t n) const {
  from_->inverse(x, y, n);
  const bool turns = meridian_from_ != meridian_to_;
  if (datum_) {
    for (std::size_t i = 0; i < n; ++i) x[i] += meridian_from_;
    datum_->apply(x, y, n);
    for (std::size_t i = 0; i < n; ++i) x[i] = wrapped(x[i] - meridian_to_);
  } else if (turns) {
    for (std::size_t i = 0; i < n; ++i) x[i] = wrapped(x[i] + meridian_from_ - meridian_to_);
  }
  to_->forward(x, y, n);
}

}  // namespace civic
