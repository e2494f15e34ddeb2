#include <catch2/catch.hpp>

#include "kernel/buffer/buffer.h"
#include "kernel/measure/planar.h"
#include "kernel/predicate/locate.h"
#include "kernel/predicate/validity.h"
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
      ShapeBuilder one;
      read_wkt("POINT (0 0)", one);
      StoreBuffer point = one.take();
      point.x[0] = out.store.x[i];
      point.y[0] = out.store.y[i];
      point.boxes[0] = Box{point.x[0], point.y[0], point.x[0], point.y[0]};
      const double distance = distance_from_points(point.view(), 0, store.view(), 0);
      CHECK(distance <= 5 + 1e-9);
      CHECK(distance >= 5 * std::cos(civic::pi / 64) - 1e-9);
    }
  }
}
