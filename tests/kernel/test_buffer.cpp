#include <catch2/catch.hpp>
#include <cstdlib>

#include "kernel/buffer/buffer.h"
#include "kernel/measure/ellipsoidal.h"
#include "kernel/measure/local_plane.h"
#include "kernel/measure/planar.h"
#include "kernel/overlay/mask.h"
#include "kernel/predicate/locate.h"
#include "kernel/predicate/validity.h"
#include "kernel/shapes/derive.h"
#include "vectors.h"

using namespace civic;
using test::all_handles;
using test::store_of;

namespace {

Pieces buffer_of(const std::string& text, double distance, const BufferStyle& style = {}) {
  const StoreBuffer store = store_of({text});
  const auto handles = all_handles(store.view());
  return buffer({store.view(), handles}, std::vector<double>{distance}, style);
}
double area_of(const Pieces& b) { return b.x.empty() ? 0 : planar_area(b.store.view(), 0); }

}  // namespace

TEST_CASE("areas, parts and holes of round buffers are those of the closed forms") {
  double worst = 0;
  test::for_each_vector("buffer_vectors.jsonl", [&](const test::Vector& v) {
    BufferStyle fine;
    fine.segments = 90;
    const double distance = v.number("distance"), exact = v.number("exact_area");
    const Pieces found = buffer_of(v.text("wkt"), distance, fine);
    // Arcs are inscribed: a sector of the circle loses the share 1 - sin(step) / step of its area.
    const double step = civic::pi / 2 / fine.segments,
                 lost = civic::pi * distance * distance * (1 - std::sin(step) / step);
    const StoreBuffer input = store_of({v.text("wkt")});  // each of its parts has arcs of a circle or two
    const double parts = found.x.empty() ? 0 : found.store.view().parts(0).size();
    const double rounding = found.x.empty()
                                ? 0
                                : 0x1p-48 * (std::fabs(found.store.x[0]) + std::fabs(found.store.y[0]) + 1) *
                                      planar_perimeter(found.store.view(), 0);
    const double error = std::fabs(area_of(found) - exact);
    CHECK(error <= static_cast<double>(input.part_types.size()) * lost * 2 + 1e-9 * exact + rounding);
    CHECK(parts == v.number("parts"));
    if (!found.x.empty()) {
      CHECK(found.store.view().shape_rings(0).size() - parts == v.number("holes"));
      CHECK(check_shape(found.store.view(), 0).problem == Problem::none);
    }
    if (exact > 0) worst = std::max(worst, error / exact);
  });
  WARN("largest relative error: " << worst);
}

TEST_CASE("ends and corners of other styles") {
  const std::string line = "LINESTRING (0 0, 10 0)", corner = "LINESTRING (0 0, 10 0, 10 10)",
                    square = "POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))";
  BufferStyle style;
  style.ends = LineEnds::flat;
  CHECK(area_of(buffer_of(line, 1, style)) == Approx(20));
  style.ends = LineEnds::square;
  CHECK(area_of(buffer_of(line, 1, style)) == Approx(24));
  style.ends = LineEnds::flat;
  style.corners = Corners::mitred;
  CHECK(area_of(buffer_of(corner, 1, style)) == Approx(40));
  CHECK(area_of(buffer_of(square, 1, style)) == Approx(36));
  style.corners = Corners::bevelled;
  CHECK(area_of(buffer_of(corner, 1, style)) == Approx(39.5));
  style.corners = Corners::mitred;
  style.mitre_limit = 1.2;  // a right angle's tip lies 1.414 distances out
  CHECK(area_of(buffer_of(corner, 1, style)) == Approx(39.5));
  style = {};
  style.side = LineSide::left;
  CHECK(area_of(buffer_of(line, 2, style)) == Approx(20));
  CHECK(buffer_of(line, 2, style).store.boxes[0].ymin == 0);
  style.side = LineSide::right;
  CHECK(buffer_of(line, 2, style).store.boxes[0].ymax == 0);
}

TEST_CASE("what a negative distance leaves") {
  CHECK(area_of(buffer_of("POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))", -1)) == Approx(4));
  CHECK(buffer_of("POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))", -2).x.empty());
  CHECK(buffer_of("LINESTRING (0 0, 4 0)", -1).x.empty());
  CHECK(buffer_of("POINT (0 0)", 0).x.empty());
  CHECK(area_of(buffer_of("POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))", 0)) == 16);
}

TEST_CASE("buffers grow with distance and hold what they are around") {
  std::mt19937 random(11);
  for (int round = 0; round < 20; ++round) {
    const std::string star = test::random_star(random, 1000, 2000, 50, 40);
    double last = 0;
    for (const double distance : {-6.0, -2.0, 0.0, 0.5, 5.0, 60.0}) {
      const Pieces found = buffer_of(star, distance);
      REQUIRE(found.x.size() == 1);
      CHECK(check_shape(found.store.view(), 0).problem == Problem::none);
      CHECK(area_of(found) > last);
      last = area_of(found);
    }
    // All vertices of the outermost are as far from the star as they should be.
    const StoreBuffer store = store_of({star});
    const Pieces out = buffer_of(star, 5);
    for (std::size_t i = 0; i < out.store.x.size(); ++i) {
      const StoreBuffer point = test::store_of_point(out.store.x[i], out.store.y[i]);
      const double distance = distance_from_points(point.view(), 0, store.view(), 0);
      CHECK(distance <= 5 + 1e-9);
      CHECK(distance >= 5 * std::cos(civic::pi / 64) - 1e-9);
    }
  }
}

TEST_CASE("buffers of fine-grained shapes have no holes without width, and come back to what holds the shape") {
  std::mt19937 random(17);
  std::normal_distribution<double> step(0, 1);
  for (int round = 0; round < 30; ++round) {
    std::string walk = "LINESTRING (";
    double x = 500000, y = 4000000;
    for (int i = 0; i < 200; ++i)
      walk += (i ? ", " : "") + std::to_string(x += step(random)) + " " + std::to_string(y += step(random));
    const StoreBuffer line = store_of({walk + ")"});
    const Pieces found = buffer_of(walk + ")", 5);
    const StoreView s = found.store.view();
    REQUIRE(found.x.size() == 1);
    CHECK(check_shape(s, 0).problem == Problem::none);
    // Every vertex, and the middle of every edge, is as far from the line as it should be, on holes too.
    for (int ring = s.shape_rings(0).begin; ring < s.shape_rings(0).end; ++ring)
      for (int i = s.vertices(ring).begin; i + 1 < s.vertices(ring).end; ++i)
        for (const double t : {0.0, 0.5}) {
          const double px = s.x[i] + t * (s.x[i + 1] - s.x[i]), py = s.y[i] + t * (s.y[i + 1] - s.y[i]);
          const StoreBuffer point = test::store_of_point(px, py);
          const double distance = distance_from_points(point.view(), 0, line.view(), 0);
          CHECK(distance <= 5 + 1e-6);
          CHECK(distance >= 5 * std::cos(civic::pi / 64) - 1e-6);
        }
  }
  for (int round = 0; round < 20; ++round) {
    const std::string star = test::random_star(random, 500000, 4000000, 50, 400);
    const StoreBuffer shape = store_of({star});
    const Pieces out = buffer_of(star, 20);
    const int one[] = {1};
    const double back_by[] = {-20};
    const Pieces back = buffer({out.store.view(), one}, back_by, {});
    REQUIRE(back.x.size() == 1);
    const Pieces lost = mask({shape.view(), one}, {back.store.view(), one}, false);
    CHECK(area_of(lost) < 2e-3 * planar_area(shape.view(), 0));
    CHECK(area_of(back) >= planar_area(shape.view(), 0) * (1 - 2e-3));
  }
}

namespace {

using Random = std::mt19937;
double between(Random& random, double low, double high) {
  return std::uniform_real_distribution<double>(low, high)(random);
}
std::string vertex_text(double x, double y) { return std::to_string(x) + " " + std::to_string(y); }

std::string random_walk(Random& random, int vertices) {
  std::normal_distribution<double> step(0, 5);
  double x = 500000, y = 4000000;
  std::string text = "LINESTRING (" + vertex_text(x, y);
  for (int i = 1; i < vertices; ++i) text += ", " + vertex_text(x += step(random), y += step(random));
  return text + ")";
}

// Teeth on a bar, of any width and distance, some of them closer than a buffer is wide.
std::string random_comb(Random& random) {
  std::string text = "POLYGON ((500000 4000000, ", back;
  double x = 500000;
  for (int tooth = static_cast<int>(between(random, 2, 9)); tooth > 0; --tooth) {
    const double high = 4000000 + between(random, 5, 30), end = x + between(random, 0.2, 6),
                 next = end + between(random, 0.2, 6);
    back += ", " + vertex_text(x, high) + ", " + vertex_text(end, high) + ", " + vertex_text(end, 4000004) + ", " +
            vertex_text(next, 4000004);
    x = next;
  }
  return text + "500000 4000004" + back + ", " + vertex_text(x, 4000000) + ", 500000 4000000))";
}

std::string random_spiral(Random& random) {
  const double pitch = between(random, 0.5, 6), step = between(random, 0.1, 0.6);
  std::string text;
  for (int i = 0; i < 60; ++i) {
    const double angle = i * step, r = pitch * angle / 6.283;
    text += (i ? ", " : "LINESTRING (") + vertex_text(500000 + r * std::cos(angle), 4000000 + r * std::sin(angle));
  }
  return text + ")";
}

std::string random_shape(Random& random) {
  const int corners = static_cast<int>(between(random, 3, 60));
  switch (random() % 5) {
    case 0:
      return random_walk(random, corners);
    case 1:
      return random_comb(random);
    case 2:
      return random_spiral(random);
    case 3:
      return vertex_text(between(random, 0, 9), 1).insert(0, "POINT (") + ")";
    default:
      return test::random_star(random, 500000, 4000000, between(random, 1, 60), std::max(5, corners));
  }
}

// The rule of a buffer: it is valid, holds the shape, and all of its border is as far from the shape as it should be.
void check_buffer(Random& random, bool closely) {
  const std::string text = random_shape(random);
  const StoreBuffer store = store_of({text});
  const bool polygon = text[2] == 'L';
  const int one[] = {1};
  if (polygon && check_shape(store.view(), 0).problem != Problem::none) return;  // teeth without a gap
  const double size = std::exp(between(random, -4, 3)), distance = polygon && random() % 3 == 0 ? -size : size;
  BufferStyle style;
  style.segments = 4 << random() % 3;
  const StoreBuffer line = polygon ? boundaries_of({store.view(), one}, false).store : store;
  INFO(text << " by " << distance);
  const double by[] = {distance};
  const Pieces found = buffer({store.view(), one}, by, style);
  if (found.x.empty()) {
    CHECK(distance < 0);
    return;
  }
  const StoreView s = found.store.view();
  REQUIRE(check_shape(s, 0).problem == Problem::none);
  if (!closely) return;
  const double least = size * std::cos(civic::pi / (4 * style.segments)), slack = 1e-8 + 1e-6 * size;
  for (int ring = s.shape_rings(0).begin; ring < s.shape_rings(0).end; ++ring)
    for (int i = s.vertices(ring).begin; i + 1 < s.vertices(ring).end; ++i)
      for (const double t : {0.0, 0.5}) {
        const StoreBuffer place =
            test::store_of_point(s.x[i] + t * (s.x[i + 1] - s.x[i]), s.y[i] + t * (s.y[i + 1] - s.y[i]));
        const double far = distance_from_points(place.view(), 0, line.view(), 0);
        CHECK(far <= size + slack);
        CHECK(far >= least - slack);
      }
  const StoreView v = store.view();
  const double area = planar_area(s, 0);
  if (distance > 0) {
    const Pieces lost = mask({v, one}, {s, one}, false);
    CHECK(lost.x.empty());
    CHECK(area > (polygon ? planar_area(v, 0) : 0));
  } else {
    CHECK(area < planar_area(v, 0));
  }
}

}  // namespace

// 300 shapes, or CIVIC_BUFFER_RUNS of them, of which every 50th is looked at closely.
TEST_CASE("buffers of random shapes are valid, and as wide as they should be everywhere") {
  const char* asked = std::getenv("CIVIC_BUFFER_RUNS");
  const char* given = std::getenv("CIVIC_BUFFER_SEED");
  const int runs = asked ? std::atoi(asked) : 300;
  const unsigned seed = given ? static_cast<unsigned>(std::atoi(given)) : 20261128;
  for (int run = 0; run < runs; ++run) {
    Random random(seed + static_cast<unsigned>(run));
    INFO("seed " << seed + static_cast<unsigned>(run));
    check_buffer(random, !asked || run % 50 == 0);
  }
}

TEST_CASE("buffers on longitude and latitude are as wide as they should be, at any size") {
  const Ellipsoid wgs84{"WGS 84", 6378137, 298.257223563};
  const Geodesic geodesic(wgs84);
  const auto made = [&](const StoreBuffer& store, double distance) {
    const int one[] = {1};
    const double by[] = {distance};
    return geodesic_buffer({store.view(), one}, wgs84, by, {});
  };
  const auto contains = [](const Pieces& found, double lon, double lat) {
    return locate_in_shape(found.store.view(), 0, lon, lat) == Location::inside;
  };
  // Circles around points, from a metre to the antipode.
  for (const auto& [lon, lat] : {std::pair{20.0, 30.0}, {179.9, -60.0}, {-100.0, 0.0}, {5.0, 89.95}})
    for (const double radius : {1.0, 1000.0, 500e3, 4000e3, 9500e3, 11000e3, 15000e3, 19900e3}) {
      INFO(lon << " " << lat << " by " << radius);
      const Pieces found = made(test::store_of_point(lon, lat), radius);
      REQUIRE(found.x.size() == 1);
      const StoreView s = found.store.view();
      CHECK(check_shape(s, 0).problem == Problem::none);
      CHECK(contains(found, lon, lat));
      double worst = 0;
      for (std::size_t i = 0; i < s.x.size(); ++i) {
        if (std::fabs(std::fabs(s.x[i]) - 180) < 1e-9 || std::fabs(s.y[i]) > 90 - 1e-9) continue;  // where maps end
        worst = std::max(worst, std::fabs(geodesic.distance({lon, lat}, {s.x[i], s.y[i]}) / radius - 1));
      }
      CHECK(worst < (radius > 19e6 ? 3e-3 : 1e-3) + (1 - std::cos(civic::pi / 64)));
      const double earth = 6371007.2, cap = 2 * civic::pi * earth * earth * (1 - std::cos(radius / earth));
      CHECK(ellipsoidal_area(geodesic, s, 0) == Approx(cap).epsilon(0.01));
    }
  CHECK(ellipsoidal_area(geodesic, made(test::store_of_point(20, 30), 30e6).store.view(), 0) ==
        Approx(geodesic.whole_area()));

  // Around a long line, a large polygon, and within it.
  const auto worst_off = [&](const std::string& text, double distance) {
    const StoreBuffer shape = store_of({text});
    const StoreBuffer fine = edges_in_pieces(Globe(Ellipsoid{}), shape.view(), 0, std::fabs(distance) / 20, HUGE_VAL);
    const Pieces found = made(shape, distance);
    REQUIRE(found.x.size() == 1);
    const StoreView s = found.store.view();
    CHECK(check_shape(s, 0).problem == Problem::none);
    double worst = 0;
    for (std::size_t i = 0; i < s.x.size(); i += 7) {
      if (std::fabs(std::fabs(s.x[i]) - 180) < 1e-9) continue;
      double nearest = 1e9;
      for (std::size_t k = 0; k < fine.x.size(); ++k)
        nearest = std::min(nearest, geodesic.distance({s.x[i], s.y[i]}, {fine.x[k], fine.y[k]}));
      worst = std::max(worst, std::fabs(nearest / std::fabs(distance) - 1));
    }
    return worst;
  };
  const double chord = 1 - std::cos(civic::pi / 64);
  CHECK(worst_off("LINESTRING (-74 40, 0 51)", 300e3) < 1e-3 + chord);
  CHECK(worst_off("LINESTRING (170 60, -120 70)", 200e3) < 1e-3 + chord);
  CHECK(worst_off("POLYGON ((0 42, 8 42, 8 51, 0 51, 0 42))", 100e3) < 1e-3 + chord);
  CHECK(worst_off("POLYGON ((0 42, 8 42, 8 51, 0 51, 0 42))", -100e3) < 1e-3 + chord);
}

TEST_CASE("short buffers in the plane of degrees are as wide as they should be to a ten-thousandth") {
  const Ellipsoid wgs84{"WGS 84", 6378137, 298.257223563};
  const Globe globe(wgs84);
  const auto check_width = [&](const std::string& text, double distance) {
    const StoreBuffer shape = store_of({text});
    const GlobeShape ready(globe, shape.view(), 0);
    const int one[] = {1};
    const double by[] = {distance};
    const Pieces found = geodesic_buffer({shape.view(), one}, wgs84, by, {});
    REQUIRE(found.x.size() == 1);
    const StoreView s = found.store.view();
    CHECK(check_shape(s, 0).problem == Problem::none);
    double nearest = HUGE_VAL, farthest = 0;
    for (std::size_t i = 0; i < s.x.size(); ++i) {
      const StoreBuffer place = test::store_of_point(s.x[i], s.y[i]);
      const double off = globe_distance(globe, GlobeShape(globe, place.view(), 0), ready, HUGE_VAL) / distance - 1;
      nearest = std::min(nearest, off);
      farthest = std::max(farthest, off);
    }
    CHECK(farthest < 1.5e-4);
    CHECK(nearest > -1.5e-4 - (1 - std::cos(civic::pi / 64)));  // where the chord of an arc meets an edge
  };
  for (const double latitude : {0.0, 40.0, -65.0, 78.0}) {
    const auto place = [&](double x, double y) { return std::to_string(x) + " " + std::to_string(latitude + y); };
    const std::string line = "LINESTRING (" + place(10, 0) + ", " + place(13, 1) + ", " + place(13.2, 4) + ")";
    const std::string box = "POLYGON ((" + place(0, 0) + ", " + place(6, 0) + ", " + place(6, 3) + ", " + place(0, 3) +
                            ", " + place(0, 0) + "))";
    for (const double distance : {1.0, 1000.0, 12000.0}) {
      INFO(latitude << " by " << distance);
      check_width(line, distance);
      check_width(box, distance);
    }
  }
}
