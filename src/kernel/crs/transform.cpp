#include "transform.h"

#include <algorithm>
#include <cmath>

#include "../base/error.h"
#include "../base/parallel.h"
#include "../shapes/store.h"
#include "unit_ellipsoid.h"

namespace civic {
namespace {

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

// The datum a grid leads to: WGS 84 but for the ellipsoid.
Datum beside_wgs84(const GridShift::System& system) {
  const double flattening = 1 - system.semi_minor / system.semi_major;
  Datum datum;
  datum.name = system.name;
  datum.ellipsoid = {system.name, system.semi_major, flattening == 0 ? 0 : 1 / flattening};
  datum.shift = DatumShift{};
  return datum;
}

}  // namespace

bool Transform::GridStep::apply(double& longitude, double& latitude) const {
  return forward ? grid->forward(longitude, latitude) : grid->inverse(longitude, latitude);
}

TransformStep Transform::GridStep::described() const {
  return {"grid " + grid->name() + ", " + start().name + " to " + end().name, grid->accuracy()};
}

Transform::Transform(const Crs& from, const Crs& to, const Grids& grids)
    : from_(make_projection(from)),
      to_(make_projection(to)),
      meridian_from_(from.meridian_degrees * degree),
      meridian_to_(to.meridian_degrees * degree),
      both_geographic_(from.kind == CrsKind::geographic && to.kind == CrsKind::geographic),
      degrees_from_(from.unit_size),
      degrees_to_(to.unit_size) {
  if (from.kind == CrsKind::projected) steps_.push_back({"inverse " + from.method + " of " + label(from), 0});
  if (!same_datum(from.datum, to.datum)) plan_shift(from, to, grids);
  if (meridian_from_ != meridian_to_) steps_.push_back({"longitudes from " + from.meridian + " to " + to.meridian, 0});
  if (to.kind == CrsKind::projected) steps_.push_back({to.method + " of " + label(to), 0});
}

// A grid that leads from the datum of one CRS to that of another, or, without one, wherever it leads.
std::optional<Transform::GridStep> Transform::grid_between(const Crs& from, const Crs* to, const Grids& grids) {
  for (const auto& grid : grids)
    for (const bool forward : {true, false}) {
      const GridStep step{grid, forward};
      if (GridShift::is_of(step.start(), from) && (!to || GridShift::is_of(step.end(), *to))) return step;
    }
  return std::nullopt;
}

// A grid between the two datums serves alone; else one at either end, and parameters for the rest.
void Transform::plan_shift(const Crs& from, const Crs& to, const Grids& grids) {
  Datum start = from.datum, end = to.datum;
  first_grid_ = grid_between(from, &to, grids);
  if (first_grid_) {
    start = end;
  } else {
    if (from.datum.wants_grid) first_grid_ = grid_between(from, nullptr, grids);
    if (to.datum.wants_grid) last_grid_ = grid_between(to, nullptr, grids);
    if (last_grid_) last_grid_->forward = !last_grid_->forward;
    if (first_grid_) start = beside_wgs84(first_grid_->end());
    if (last_grid_) end = beside_wgs84(last_grid_->start());
  }
  lacks_grid_ = (from.datum.wants_grid || to.datum.wants_grid) && !first_grid_ && !last_grid_;

  if (first_grid_) steps_.push_back(first_grid_->described());
  if (!same_datum(start, end)) {
    between_ = std::make_unique<DatumStep>(start, end);
    steps_.push_back(
        {"datum shift " + start.name + " to " + end.name, std::hypot(start.shift_accuracy, end.shift_accuracy)});
  }
  if (last_grid_) steps_.push_back(last_grid_->described());
  const bool has_parameters = from.datum.shift && to.datum.shift;
  if (has_parameters || !(first_grid_ || last_grid_)) datum_ = std::make_unique<DatumStep>(from.datum, to.datum);
}

double Transform::stated_accuracy() const {
  double squares = 0;
  for (const TransformStep& step : steps_) squares += step.accuracy * step.accuracy;
  return std::sqrt(squares);
}

void Transform::apply(double* x, double* y, std::size_t n) const {
  parallel_for(n, 4096, [&](std::size_t begin, std::size_t end) { apply_batch(x + begin, y + begin, end - begin); });
}

bool Transform::shift_by_grids(double& longitude, double& latitude) const {
  if (first_grid_ && !first_grid_->apply(longitude, latitude)) return false;
  if (between_) between_->apply(&longitude, &latitude, 1);
  return !last_grid_ || last_grid_->apply(longitude, latitude);
}

// Longitudes from Greenwich and latitudes in radians.
void Transform::shift_datum(double* x, double* y, std::size_t n) const {
  if (!first_grid_ && !last_grid_) return datum_->apply(x, y, n);
  for (std::size_t i = 0; i < n; ++i) {
    if (std::isnan(x[i])) continue;
    double longitude = x[i], latitude = y[i];
    if (shift_by_grids(longitude, latitude)) {
      x[i] = longitude;
      y[i] = latitude;
      continue;
    }
    beyond_.fetch_add(1, std::memory_order_relaxed);
    if (datum_)
      datum_->apply(x + i, y + i, 1);
    else
      x[i] = y[i] = nan_value;
  }
}

void Transform::apply_batch(double* x, double* y, std::size_t n) const {
  std::vector<double> before;
  if (both_geographic_) before.assign(x, x + n);
  from_->inverse(x, y, n);
  if (datum_ || first_grid_ || last_grid_) {
    for (std::size_t i = 0; i < n; ++i) x[i] += meridian_from_;
    shift_datum(x, y, n);
    for (std::size_t i = 0; i < n; ++i) x[i] = wrapped(x[i] - meridian_to_);
  } else if (meridian_from_ != meridian_to_) {
    for (std::size_t i = 0; i < n; ++i) x[i] = wrapped(x[i] + meridian_from_ - meridian_to_);
  }
  to_->forward(x, y, n);
  // Longitudes beyond 180 degrees, and those on it, stay near where they were.
  for (std::size_t i = 0; i < before.size(); ++i) {
    const double turns = std::round((before[i] * degrees_from_ - x[i] * degrees_to_) / 360);
    if (turns != 0 && std::isfinite(turns)) x[i] += turns * 360 / degrees_to_;
  }
}

}  // namespace civic
