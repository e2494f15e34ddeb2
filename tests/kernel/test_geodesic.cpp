#include <catch2/catch.hpp>

#include "kernel/measure/distance.h"
#include "kernel/measure/ellipsoidal.h"
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
    return ellipsoidal_distance(Ellipsoid{}, wgs84(), one.view(), 0, other.view(), 0);
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
