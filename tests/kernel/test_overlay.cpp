#include <catch2/catch.hpp>

#include "kernel/base/error.h"
#include "kernel/measure/planar.h"
#include "kernel/noding/noder.h"
#include "kernel/overlay/dissolve.h"
#include "kernel/overlay/mask.h"
#include "kernel/overlay/overlay.h"
#include "kernel/overlay/repair.h"
#include "vectors.h"

using namespace civic;
using test::all_handles;
using test::store_of;

namespace {

struct Layer {
  StoreBuffer store;
  std::vector<int> handles;
  explicit Layer(const std::vector<std::string>& texts) : store(store_of(texts)), handles(all_handles(store.view())) {}
  explicit Layer(StoreBuffer buffer) : store(std::move(buffer)), handles(all_handles(store.view())) {}
  ShapeRows rows() const { return {store.view(), handles}; }
  double area() const {
    double sum = 0;
    for (int i = 0; i < store.view().size(); ++i) sum += planar_area(store.view(), i);
    return sum;
  }
  double perimeter() const {
    double sum = 0;
    for (int i = 0; i < store.view().size(); ++i) sum += planar_perimeter(store.view(), i);
    return sum;
  }
  double largest() const {
    double out = 0;
    for (const auto* all : {&store.x, &store.y})
      for (const double value : *all) out = std::max(out, std::fabs(value));
    return out;
  }
};

Layer pieces_of(const Layer& x, const Layer& y, OverlayKeep keep) {
  return Layer(overlay(x.rows(), y.rows(), keep).store);
}
constexpr OverlayKeep both{true, false, false, false}, only_x{false, true, false, false},
    either{false, true, true, false}, all{true, true, true, false};

std::vector<std::string> texts_of(const Pieces& pieces) {
  std::vector<std::string> out;
  for (int i = 0; i < pieces.store.view().size(); ++i) out.push_back(test::text_of(pieces.store.view(), i));
  return out;
}

// Every polygon on its own stays what it is: its rings are walked alike by both fill rules, and none of them is lost.
void require_valid(const Layer& layer) {
  const StoreView& s = layer.store.view();
  for (int i = 0; i < s.size(); ++i) {
    if (dimension_of(kind_of(s.types[i])) != 2) continue;
    const Layer one(std::vector<std::string>{test::text_of(s, i)});
    for (const FillRule rule : {FillRule::even_odd, FillRule::nonzero}) {
      const Pieces again = repair(one.rows(), rule);
      REQUIRE(again.x.size() == 1);
      CHECK(again.store.part_types.size() == static_cast<std::size_t>(s.parts(i).size()));
      CHECK(again.store.ring_vertices.size() - 1 == static_cast<std::size_t>(s.shape_rings(i).size()));
      CHECK(again.store.x.size() == static_cast<std::size_t>(s.shape_vertices(i).size()));
    }
  }
}

}  // namespace

TEST_CASE("areas of overlays agree with exact arithmetic") {
  double worst = 0;
  test::for_each_vector("overlay_vectors.jsonl", [&](const test::Vector& v) {
    const Layer a({v.text("a")}), b({v.text("b")});
    const double bound = 8 * 0x1p-52 * std::max(a.largest(), b.largest()) * (a.perimeter() + b.perimeter());
    auto check = [&](const OverlayKeep& keep, const char* name) {
      const Layer found = pieces_of(a, b, keep);
      const double error = std::fabs(found.area() - v.number(name));
      CHECK(error <= bound);
      worst = std::max(worst, error / bound);
    };
    check(both, "intersection");
    check(only_x, "a_minus_b");
    check(either, "symdiff");
    check(all, "union");
    const std::string notes = v.text("notes");
    if (notes.find("transform=plain") != std::string::npos || notes.find("category=randgrid") != std::string::npos) {
      const Layer found = pieces_of(a, b, {true, false, false, true});
      int dimension = -1;
      for (const int part : found.store.part_types) dimension = std::max(dimension, part - 1);
      CHECK(dimension == static_cast<int>(v.number("intersection_dim")));
    }
  });
  WARN("largest error, of the bound: " << worst);
}

TEST_CASE("invalid polygons are filled by either rule as exact arithmetic says") {
  test::for_each_vector("invalid_vectors.jsonl", [&](const test::Vector& v) {
    if (!v.has_number("even_odd_area")) return;
    const Layer x({v.text("wkt")});
    const double bound = 8 * 0x1p-52 * x.largest() * x.perimeter();
    const Layer even_odd(repair(x.rows(), FillRule::even_odd).store);
    CHECK(even_odd.area() == Approx(v.number("even_odd_area")).margin(bound).epsilon(1e-14));
    const Layer nonzero(repair(x.rows(), FillRule::nonzero).store);
    CHECK(nonzero.area() == Approx(v.number("nonzero_area")).margin(bound).epsilon(1e-14));
    require_valid(even_odd);
    require_valid(nonzero);
  });
}

TEST_CASE("vertices keep their digits") {
  const Layer a({"POLYGON ((0.1 0.7, 500000.3 0.7, 500000.3 5000000.9, 0.1 5000000.9, 0.1 0.7))"});
  const Layer b({"POLYGON ((250000.7 -1, 600000 -1, 600000 6000000.2, 250000.7 6000000.2, 250000.7 -1))"});
  CHECK(
      texts_of(overlay(a.rows(), b.rows(), only_x)) ==
      std::vector<std::string>{"POLYGON ((0.1 5000000.9, 0.1 0.7, 250000.7 0.7, 250000.7 5000000.9, 0.1 5000000.9))"});
}

TEST_CASE("lines and points take part in overlays") {
  const Layer square({"POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))"});
  SECTION("a line through a polygon, in its direction") {
    const Layer line({"LINESTRING (6 2, -2 2)"});
    CHECK(texts_of(overlay(line.rows(), square.rows(), both)) == std::vector<std::string>{"LINESTRING (4 2, 0 2)"});
    CHECK(texts_of(overlay(line.rows(), square.rows(), only_x)) ==
          std::vector<std::string>{"MULTILINESTRING ((0 2, -2 2), (6 2, 4 2))"});
    const Pieces from_polygon = overlay(square.rows(), line.rows(), only_x);
    CHECK(Layer(StoreBuffer(from_polygon.store)).area() == 16);
  }
  SECTION("a line on the border lies in the polygon") {
    const Layer line({"LINESTRING (-1 0, 2 0, 2 -1)"});
    CHECK(texts_of(overlay(line.rows(), square.rows(), both)) == std::vector<std::string>{"LINESTRING (0 0, 2 0)"});
  }
  SECTION("points in, on and outside, inside a hole") {
    const Layer points({"POINT (1 1)", "POINT (4 2)", "POINT (9 9)", "MULTIPOINT (1 1, 7 7)"});
    const Pieces in = overlay(points.rows(), square.rows(), both);
    CHECK(in.x == std::vector<int>{0, 1, 3});
    CHECK(texts_of(in)[2] == "POINT (1 1)");
    const Pieces out = overlay(points.rows(), square.rows(), only_x);
    CHECK(out.x == std::vector<int>{2, 3});
    CHECK(out.whole[0]);
    CHECK_FALSE(out.whole[1]);
    const Layer ring({"POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0), (1 1, 1 3, 3 3, 3 1, 1 1))"});
    const Layer middle({"POINT (2 2)"});
    CHECK(overlay(middle.rows(), ring.rows(), both).x.empty());
  }
  SECTION("lines that cross meet in a point, which is less than both could") {
    const Layer a({"LINESTRING (0 0, 2 2)"}), b({"LINESTRING (0 2, 2 0)"});
    const Pieces none = overlay(a.rows(), b.rows(), both);
    CHECK(none.x.empty());
    CHECK(none.touching == 1);
    CHECK(texts_of(overlay(a.rows(), b.rows(), {true, false, false, true})) == std::vector<std::string>{"POINT (1 1)"});
  }
  SECTION("polygons along a border") {
    const Layer beside({"POLYGON ((4 1, 8 1, 8 3, 4 3, 4 1))"});
    const Pieces none = overlay(square.rows(), beside.rows(), both);
    CHECK(none.touching == 1);
    CHECK(texts_of(overlay(square.rows(), beside.rows(), {true, false, false, true})) ==
          std::vector<std::string>{"LINESTRING (4 1, 4 3)"});
  }
}

TEST_CASE("lines are joined end to end") {
  const Layer lines(
      {"LINESTRING (0 0, 1 0)", "LINESTRING (2 0, 1 0)", "LINESTRING (2 0, 3 1)", "LINESTRING (9 9, 8 8)"});
  const std::vector<int> one(4, 0);
  const Pieces joined = dissolve(lines.rows(), one);
  CHECK(texts_of(joined) == std::vector<std::string>{"MULTILINESTRING ((0 0, 1 0, 2 0, 3 1), (9 9, 8 8))"});
  const Layer ring({"LINESTRING (0 0, 1 0, 1 1, 0 0)"});
  CHECK(texts_of(dissolve(ring.rows(), std::vector<int>{0}))[0] == "LINESTRING (0 0, 1 0, 1 1, 0 0)");
}

TEST_CASE("shared borders vanish when polygons are dissolved, holes and islands stay") {
  const Layer x({"POLYGON ((0 0, 2 0, 2 2, 0 2, 0 0))", "POLYGON ((2 0, 4 0, 4 2, 2 2, 2 0))",
                 "POLYGON ((9 9, 10 9, 10 10, 9 9))", "POLYGON ((0 2, 4 2, 4 4, 0 4, 0 2), (1 3, 2 3, 2 3.5, 1 3))"});
  const Pieces one = dissolve(x.rows(), std::vector<int>{0, 0, 0, 0});
  REQUIRE(one.x.size() == 1);
  CHECK(one.store.part_types.size() == 2);
  CHECK(Layer(StoreBuffer(one.store)).area() == Approx(x.area()));
  CHECK(one.store.ring_vertices.size() == 4);  // two shells and a hole
}

TEST_CASE("coordinates that are not finite are refused by row") {
  for (const char* text :
       {"POLYGON ((0 0, 1 0, NaN 1, 0 0))", "POLYGON ((0 0, 1 0, 1 NaN, 0 0))", "POLYGON ((0 0, 1 0, 1 Inf, 0 0))"})
    CHECK_THROWS_WITH(repair(Layer({text}).rows(), FillRule::even_odd), Catch::Contains("row 1"));
}

TEST_CASE("segments that all cross in one place are cut there, however many pairs they are") {
  constexpr int n = 1600;  // 1.3 million pairs
  std::vector<GridPoint> points;
  std::vector<Segment> segments;
  for (int i = 0; i < n; ++i) {
    const std::int64_t x = 2000 * Grid::cell_steps * (n + i), y = 2000 * Grid::cell_steps * (2 * i + 1);
    points.push_back({x, y});
    points.push_back({-x, -y});
    segments.push_back({2 * i, 2 * i + 1, i});
  }
  const Noded noded = node(points, segments);
  CHECK(noded.points.size() == 2 * n + 1);
  CHECK(noded.segments.size() == 2 * n);
  const int centre = noded.place({0, 0});
  for (const Segment& segment : noded.segments) REQUIRE((segment.from == centre || segment.to == centre));
}
