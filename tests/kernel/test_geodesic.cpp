#include <catch2/catch.hpp>
#include <random>

#include "kernel/measure/distance.h"
#include "kernel/measure/ellipsoidal.h"
#include "kernel/measure/globe_shape.h"
#include "kernel/measure/planar.h"
#include "kernel/shapes/wkt.h"
#include "registry.h"

using namespace civic;

namespace {

const Geodesic& wgs84() {
  static const Geodesic instance{Ellipsoid{}};
  return instance;
}

double off(GeoPoint a, double longitude, double latitude) {
  return test::ground_distance(a.longitude * civic::degree, a.latitude * civic::degree, longitude * civic::degree,
                               latitude * civic::degree);
}

StoreBuffer shape(const std::string& text) { return test::store_of({text}); }

}  // namespace

TEST_CASE("geodesics agree with the reference vectors") {
  int rows = 0;
  for (const auto& row : test::csv_rows("geodesic_vectors.csv")) {
    const GeoPoint from{std::stod(row[0]), std::stod(row[1])}, to{std::stod(row[2]), std::stod(row[3])};
    const double distance = std::stod(row[4]);
    const GeodesicArc line = wgs84().inverse(from, to);
    INFO(row[0] << " " << row[1] << " to " << row[2] << " " << row[3]);
    CHECK(std::fabs(line.distance - distance) < 1e-8);
    CHECK(wgs84().distance(from, to) == line.distance);
    ++rows;
    if (row[5].empty()) continue;  // two lines are equally short
    const double azimuth = std::stod(row[5]);
    // A nanometre on the ground at the far end, or the rounding of the coordinates there.
    const double lever = std::max(std::fabs(line.reduced_length), 1e-3);
    CHECK(std::fabs(std::remainder(line.azimuth1 - azimuth, 360)) * civic::degree * lever < 2e-8);
    const GeodesicEnd end = wgs84().direct(from, azimuth, distance);
    CHECK(off({end.longitude, end.latitude}, to.longitude, to.latitude) < 2e-8);
  }
  CHECK(rows == 75);
}

TEST_CASE("areas and perimeters agree with the reference vectors") {
  int rows = 0;
  for (const auto& row : test::csv_rows("geodesic_area_vectors.csv")) {
    const StoreBuffer store = shape(row[0]);
    const double area = std::stod(row[1]), perimeter = std::stod(row[2]);
    INFO(row[0]);
    CHECK(std::fabs(ellipsoidal_area(wgs84(), store.view(), 0) / area - 1) < 1e-9);
    CHECK(std::fabs(ellipsoidal_perimeter(wgs84(), store.view(), 0) - perimeter) < 1e-7);
    ++rows;
  }
  CHECK(rows == 15);
}

TEST_CASE("inverse and direct problem undo each other on any ellipsoid") {
  std::mt19937 random(7);
  std::uniform_real_distribution<double> longitude(-180, 180), latitude(-90, 90);
  for (const Ellipsoid& ellipsoid : {Ellipsoid{}, Ellipsoid{"sphere", 6371000, 0}, Ellipsoid{"unit", 1, 150},
                                     Ellipsoid{"Clarke 1866", 6378206.4, 294.9786982}}) {
    const Geodesic geodesic(ellipsoid);
    for (int i = 0; i < 2000; ++i) {
      const GeoPoint a{longitude(random), latitude(random)}, b{longitude(random), latitude(random)};
      const GeodesicArc line = geodesic.inverse(a, b);
      const GeodesicEnd end = geodesic.direct(a, line.azimuth1, line.distance);
      CHECK(off({end.longitude, end.latitude}, b.longitude, b.latitude) < 1e-7);
      CHECK(std::fabs(geodesic.distance(b, a) - line.distance) < 1e-9 * ellipsoid.semi_major / 6e5 + 1e-16);
    }
  }
}

TEST_CASE("on a sphere geodesics are great circles") {
  std::mt19937 random(8);
  std::uniform_real_distribution<double> longitude(-180, 180), latitude(-89, 89);
  const Geodesic sphere(Ellipsoid{"sphere", 1, 0});
  for (int i = 0; i < 500; ++i) {
    const double l1 = longitude(random), f1 = latitude(random), l2 = longitude(random), f2 = latitude(random);
    const double d = (l2 - l1) * civic::degree, a = f1 * civic::degree, b = f2 * civic::degree;
    const double y =
        std::hypot(std::cos(b) * std::sin(d), std::cos(a) * std::sin(b) - std::sin(a) * std::cos(b) * std::cos(d));
    const double x = std::sin(a) * std::sin(b) + std::cos(a) * std::cos(b) * std::cos(d);
    CHECK(sphere.distance({l1, f1}, {l2, f2}) == Approx(std::atan2(y, x)).epsilon(1e-13));
  }
}

TEST_CASE("areas add up, holes count less, and what is no place is no number") {
  const StoreBuffer whole = shape("POLYGON ((10 40, 14 40, 14 44, 10 44, 10 40))");
  const StoreBuffer left = shape("POLYGON ((10 40, 12 40, 12 44, 10 44, 10 40))");
  const StoreBuffer holed = shape("POLYGON ((10 40, 14 40, 14 44, 10 44, 10 40), (11 41, 11 42, 12 42, 12 41, 11 41))");
  const StoreBuffer hole = shape("POLYGON ((11 41, 12 41, 12 42, 11 42, 11 41))");
  auto area = [](const StoreBuffer& s) { return ellipsoidal_area(wgs84(), s.view(), 0); };
  CHECK(area(holed) == Approx(area(whole) - area(hole)).epsilon(1e-12));
  // Geodesics along a parallel bow to the pole, so that halves do not quite add up to the whole.
  CHECK(area(left) * 2 == Approx(area(whole)).epsilon(1e-3));
  CHECK(std::isnan(wgs84().distance({0, 91}, {0, 0})));
  CHECK(std::isnan(wgs84().direct({0, 0}, NAN, 1).latitude));
  const StoreBuffer world = shape("POLYGON ((0 0, 120 0, -120 0, 0 0))");
  CHECK(area(world) == Approx(wgs84().whole_area() / 2).epsilon(1e-12));
}

TEST_CASE("areas of the world and of more than half of it, and of shells within their holes") {
  const double earth = 510065621724088.4;  // the area of WGS 84, square metres
  auto area = [](const char* text) { return ellipsoidal_area(wgs84(), test::store_of({text}).view(), 0); };
  CHECK(area("POLYGON ((-180 -90, 180 -90, 180 90, -180 90, -180 -90))") == Approx(earth).epsilon(1e-12));
  const double hole = area("POLYGON ((0 0, 40 0, 40 40, 0 40, 0 0))");
  CHECK(area("POLYGON ((-180 -90, 180 -90, 180 90, -180 90, -180 -90), (0 0, 40 0, 40 40, 0 40, 0 0))") ==
        Approx(earth - hole).epsilon(1e-12));
  const double cap = area("POLYGON ((-180 -70, -90 -70, 0 -70, 90 -70, 180 -70, 180 -90, -180 -90, -180 -70))");
  CHECK(area("POLYGON ((-180 -70, -90 -70, 0 -70, 90 -70, -180 -70))") == Approx(cap).epsilon(1e-9));
  CHECK(area("POLYGON ((10 10, 11 10, 11 11, 10 10), (0 0, 40 0, 40 40, 0 40, 0 0))") > 0);
}

TEST_CASE("distances between shapes are those of their nearest places") {
  auto planar = [](const char* a, const char* b) {
    const StoreBuffer one = shape(a), other = shape(b);
    return nearest_places(one.view(), 0, other.view(), 0).distance;
  };
  CHECK(planar("POINT (0 0)", "POINT (3 4)") == 5);
  CHECK(planar("LINESTRING (0 0, 10 0)", "POINT (5 2)") == 2);
  CHECK(planar("LINESTRING (0 0, 10 10)", "LINESTRING (0 10, 10 0)") == 0);
  CHECK(planar("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "POINT (5 5)") == 0);
  CHECK(planar("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "LINESTRING (4 4, 5 5)") == 0);
  CHECK(planar("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 2 8, 8 8, 8 2, 2 2))", "POINT (5 4)") == 2);
  CHECK(planar("MULTIPOINT ((0 0), (9 0))", "LINESTRING (12 -5, 12 5)") == 3);
  CHECK(std::isnan(planar("POINT EMPTY", "POINT (1 1)")));

  auto ground = [](const char* a, const char* b) {
    const StoreBuffer one = shape(a), other = shape(b);
    const Globe globe(Ellipsoid{});
    return globe_distance(globe, {globe, one.view(), 0}, {globe, other.view(), 0}, HUGE_VAL);
  };
  CHECK(ground("POINT (10 50)", "POINT (10.001 50)") == wgs84().distance({10, 50}, {10.001, 50}));
  // A meridian is met at a right angle, a little north of the point's own latitude.
  const double to_line = ground("POINT (12 50)", "LINESTRING (10 40, 10 60)");
  double least = HUGE_VAL;
  for (double latitude = 50; latitude < 50.1; latitude += 1e-5)
    least = std::min(least, wgs84().distance({12, 50}, {10, latitude}));
  CHECK(to_line == Approx(least).epsilon(1e-10));
  CHECK(ground("POINT (179.9 0)", "LINESTRING (-179.9 -1, -179.9 1)") ==
        Approx(wgs84().distance({179.9, 0}, {-179.9, 0})).epsilon(1e-12));
  CHECK(ground("POLYGON ((0 0, 1 0, 1 1, 0 1, 0 0))", "POINT (0.5 0.5)") == 0);
}

namespace {

// The least distance between places of two lines, straight in degrees, that are sampled finer and finer around the
// best.
double sampled_distance(const std::vector<GeoPoint>& a, const std::vector<GeoPoint>& b) {
  constexpr int steps = 24;
  double least = HUGE_VAL;
  auto on = [](const std::vector<GeoPoint>& line, std::size_t edge, double t) {
    const GeoPoint p = line[edge], q = line[edge + 1];
    return GeoPoint{p.longitude + t * (q.longitude - p.longitude), p.latitude + t * (q.latitude - p.latitude)};
  };
  for (std::size_t i = 0; i + 1 < a.size(); ++i)
    for (std::size_t j = 0; j + 1 < b.size(); ++j) {
      double t = 0.5, u = 0.5, width = 0.5, best = HUGE_VAL;
      for (; width > 1e-11; width *= 0.2) {
        const double from_t = t, from_u = u;
        for (int k = 0; k <= steps; ++k)
          for (int m = 0; m <= steps; ++m) {
            const double tt = std::clamp(from_t + width * (2.0 * k / steps - 1), 0.0, 1.0);
            const double uu = std::clamp(from_u + width * (2.0 * m / steps - 1), 0.0, 1.0);
            const double d = wgs84().distance(on(a, i, tt), on(b, j, uu));
            if (d < best) best = d, t = tt, u = uu;
          }
      }
      least = std::min(least, best);
    }
  return least;
}

}  // namespace

TEST_CASE("distances on the globe are those to edges that are straight in degrees, whatever their size and place") {
  std::mt19937 random(33);
  const Globe globe(Ellipsoid{});
  auto uniform = [&](double from, double to) { return std::uniform_real_distribution<>(from, to)(random); };
  for (int round = 0; round < 40; ++round) {
    CAPTURE(round);
    const double size = std::pow(10, uniform(-3, 1)), apart = std::pow(10, uniform(-2, 1.5));
    const GeoPoint start{uniform(-180, 180), uniform(-85, 85)};
    auto line = [&](GeoPoint from) {
      std::vector<GeoPoint> out;
      for (int i = 0; i < 3; ++i) {
        out.push_back({from.longitude, std::clamp(from.latitude, -89.0, 89.0)});
        from = {from.longitude + uniform(-size, size), from.latitude + uniform(-size, size)};
      }
      return out;
    };
    auto store = [](const std::vector<GeoPoint>& line) {
      ShapeBuilder builder;
      builder.begin_shape(static_cast<int>(ShapeKind::line));
      builder.begin_part(ShapeKind::line);
      builder.begin_ring();
      for (const GeoPoint& p : line) builder.vertex(p.longitude, p.latitude);
      builder.end_shape();
      return builder.take();
    };
    const auto a = line(start),
               b = line({start.longitude + uniform(-apart, apart), start.latitude + uniform(-apart, apart)});
    const StoreBuffer one = store(a), other = store(b);
    const GlobeShape p(globe, one.view(), 0), q(globe, other.view(), 0);
    const double found = globe_distance(globe, p, q, HUGE_VAL), expected = sampled_distance(a, b);
    CHECK(found == Approx(expected).epsilon(1e-10).margin(1e-4));
    CHECK(found <= expected + 1e-6);
    CHECK(globe_distance(globe, q, p, HUGE_VAL) == Approx(found).margin(1e-6));
    CHECK(globe_distance(globe, p, q, found / 2) == (found == 0 ? 0 : HUGE_VAL));
    CHECK(within_on_globe(globe, p, q, found * (1 + 1e-9)));
    CHECK((found == 0 || !within_on_globe(globe, p, q, found * (1 - 1e-9))));
  }
}
