#include <catch2/catch.hpp>

#include "kernel/base/error.h"
#include "kernel/index/row_sorter.h"
#include "kernel/index/rtree.h"
#include "kernel/measure/planar.h"
#include "kernel/predicate/locate.h"
#include "kernel/predicate/orientation.h"
#include "kernel/query/relate.h"
#include "kernel/statistics/occurrences.h"
#include "support.h"

using namespace civic;

namespace {

int sign(__int128 v) { return v > 0 ? 1 : v < 0 ? -1 : 0; }

// Exact for integers up to 2^60.
int exact_orientation(long long ax, long long ay, long long bx, long long by, long long cx, long long cy) {
  return sign(static_cast<__int128>(ax - cx) * (by - cy) - static_cast<__int128>(ay - cy) * (bx - cx));
}

}  // namespace

TEST_CASE("orientation is exact where floating point is not") {
  std::mt19937_64 random(7);
  int undecided = 0;
  for (int i = 0; i < 200000; ++i) {
    const long long dx = static_cast<long long>(random() % 1000) + 1, dy = static_cast<long long>(random() % 1000),
                    base = 1LL << 52;
    const long long k = static_cast<long long>(random() % 1000), off = static_cast<long long>(random() % 3) - 1;
    const long long a[] = {base + dx, base + dy}, b[] = {base + 3 * dx, base + 3 * dy},
                    c[] = {base + k * dx, base + k * dy + off};
    const int expected = exact_orientation(a[0], a[1], b[0], b[1], c[0], c[1]);
    undecided += expected == 0;
    REQUIRE(orientation(a[0], a[1], b[0], b[1], c[0], c[1]) == expected);
  }
  CHECK(undecided > 1000);
  // One unit in the last place beside a line of slope 1 through 0.1.
  CHECK(orientation(0.1, 0.1, 0.3, 0.3, 0.2, std::nextafter(0.2, 1)) == 1);
  CHECK(orientation(0.1, 0.1, 0.3, 0.3, 0.2, 0.2) == 0);
}

TEST_CASE("banded location agrees with testing every edge") {
  std::mt19937 random(11);
  std::uniform_real_distribution<double> anywhere(-12, 12);
  PolygonLocator locator;
  for (int round = 0; round < 40; ++round) {
    const StoreBuffer store = test::store_of({test::random_star(random, 0, 0, 10, 3 + round * 9)});
    const StoreView view = store.view();
    locator.take(view, 0);
    auto agree = [&](double x, double y) { REQUIRE(locator.locate(x, y) == locate_in_shape(view, 0, x, y)); };
    for (int i = 0; i < 500; ++i) agree(anywhere(random), i % 5 == 0 ? view.y[i % view.y.size()] : anywhere(random));
    for (std::size_t v = 0; v < view.x.size(); ++v) REQUIRE(locator.locate(view.x[v], view.y[v]) == Location::boundary);
    for (std::size_t v = 0; v + 1 < view.x.size(); ++v) {  // on an edge but for rounding, and a step to either side
      const double x = (view.x[v] + view.x[v + 1]) / 2, y = (view.y[v] + view.y[v + 1]) / 2;
      for (const double beside : {std::nextafter(x, -100), x, std::nextafter(x, 100)}) agree(beside, y);
    }
  }
}

TEST_CASE("banded location agrees with testing every edge on a grid, far from the origin and in tiny polygons") {
  std::mt19937 random(12);
  PolygonLocator locator;
  for (int round = 0; round < 600; ++round) {
    const double unit = round % 3 == 0 ? 1 : round % 3 == 1 ? 0x1p-30 : 0x1p-1060, from = round % 3 == 1 ? 5e6 : 0;
    auto place = [&] { return from + unit * static_cast<double>(random() % 6); };
    StoreBuffer store = test::store_of({test::random_star(random, 0, 0, 10, 5 + round % 20)});
    for (std::size_t v = 0; v + 1 < store.x.size(); ++v) store.x[v] = place(), store.y[v] = place();
    store.x.back() = store.x.front(), store.y.back() = store.y.front();
    store.boxes[0] = {};
    for (std::size_t v = 0; v < store.x.size(); ++v) store.boxes[0].add(store.x[v], store.y[v]);
    const StoreView view = store.view();
    locator.take(view, 0);
    for (int i = 0; i < 60; ++i) {
      const double x = place(), y = place();
      REQUIRE(locator.locate(x, y) == locate_in_shape(view, 0, x, y));
    }
  }
}

TEST_CASE("a polygon without height is located in like any other") {
  const civic::StoreBuffer store = test::store_of({"POLYGON ((0 5, 10 5, 4 5, 0 5))"});
  PolygonLocator locator;
  locator.take(store.view(), 0);
  CHECK(locator.locate(3, 5) == Location::boundary);
  CHECK(locator.locate(3, 6) == Location::outside);
  CHECK(locator.entries() == 3);
}

TEST_CASE("a star whose edges are as high as all of it is held in memory of its own size") {
  constexpr int points = 40000;
  std::string text = "POLYGON ((";
  for (int k = 0; k <= points; ++k) {
    const double turn = 2 * pi * (k % points) / points, radius = k % 2 == 0 ? 100 : 1;
    text +=
        (k > 0 ? ", " : "") + std::to_string(radius * std::cos(turn)) + " " + std::to_string(radius * std::sin(turn));
  }
  const civic::StoreBuffer store = test::store_of({text + "))"});
  PolygonLocator locator;
  locator.take(store.view(), 0);
  std::mt19937 random(11);
  std::uniform_real_distribution<double> at(-80, 80);
  for (int i = 0; i < 100; ++i) {
    const double x = at(random), y = at(random);
    REQUIRE(locator.locate(x, y) == locate_in_shape(store.view(), 0, x, y));
  }
  CHECK(locator.entries() <= 16 * static_cast<std::size_t>(points) + 2);
}

TEST_CASE("short lists of rows are put in order, spread evenly or not") {
  std::mt19937 random(13);
  RowSorter sorter;
  for (int round = 0; round < 2000; ++round) {
    std::vector<int> rows(random() % 200);
    const int far = round % 2 == 0 ? 1000000 : 1 + round % 50;
    for (int& row : rows)
      row = static_cast<int>(random() % far) + (round % 4 == 3 && random() % 9 == 0 ? 2000000000 : 0);
    std::vector<int> expected = rows;
    std::sort(expected.begin(), expected.end());
    sorter.sort(rows);
    REQUIRE(rows == expected);
  }
}

TEST_CASE("occurrences are counted") {
  const std::vector<int> list{3, 1, 3, 5, 3, 5};
  const Occurrences found = occurrences(list, 6);
  CHECK(found.none == 3);
  CHECK(found.once == 1);
  CHECK(found.several == std::vector<int>{3, 5});
}

TEST_CASE("points on borders, holes and level edges are told apart") {
  const StoreBuffer store = test::store_of({"POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (4 4, 6 4, 6 6, 4 6, 4 4))"});
  const StoreView view = store.view();
  CHECK(locate_in_shape(view, 0, 5, 5) == Location::outside);
  CHECK(locate_in_shape(view, 0, 5, 4) == Location::boundary);
  CHECK(locate_in_shape(view, 0, 4, 5) == Location::boundary);
  CHECK(locate_in_shape(view, 0, 2, 4) == Location::inside);
  CHECK(locate_in_shape(view, 0, -1, 0) == Location::outside);
  CHECK(locate_in_shape(view, 0, 10, 10) == Location::boundary);
}

TEST_CASE("the tree finds what a scan finds") {
  std::mt19937 random(3);
  std::uniform_real_distribution<double> place(0, 1000), size(0, 30);
  for (int n : {0, 1, 2, 16, 17, 257, 5000}) {
    std::vector<Box> boxes(n);
    for (Box& box : boxes) {
      const double x = place(random), y = place(random);
      box = {x, y, x + size(random), y + size(random)};
    }
    if (n > 16) boxes[5] = Box();
    const RTree tree(boxes);
    for (int q = 0; q < 50; ++q) {
      const double x = place(random), y = place(random);
      const Box window{x, y, x + 4 * size(random), y + 4 * size(random)};
      std::vector<int> found, expected;
      tree.search(window, found);
      std::sort(found.begin(), found.end());
      for (int i = 0; i < n; ++i)
        if (!boxes[i].empty() && boxes[i].meets(window)) expected.push_back(i);
      REQUIRE(found == expected);
    }
  }
}

TEST_CASE("neighbours on the Hilbert curve are neighbours in the plane") {
  std::vector<std::pair<int, int>> cells(256);
  for (int x = 0; x < 16; ++x)
    for (int y = 0; y < 16; ++y) cells.at(hilbert_position(x, y)) = {x, y};
  for (std::size_t i = 1; i < cells.size(); ++i)
    CHECK(std::abs(cells[i].first - cells[i - 1].first) + std::abs(cells[i].second - cells[i - 1].second) == 1);
}

namespace {

// The relation by its definition, from where every point lies.
bool holds_by_definition(Relation relation, const StoreView& points, int p, const StoreView& polygons, int q) {
  bool inside = false, boundary = false, outside = false;
  const IndexRange v = points.shape_vertices(p);
  for (int i = v.begin; i < v.end; ++i) {
    const Location at = locate_in_shape(polygons, q, points.x[i], points.y[i]);
    inside |= at == Location::inside;
    boundary |= at == Location::boundary;
    outside |= at == Location::outside;
  }
  switch (relation) {
    case Relation::intersects:
      return inside || boundary;
    case Relation::disjoint:
      return !inside && !boundary;
    case Relation::within:
      return inside && !outside;
    case Relation::covered_by:
      return !outside;
    case Relation::touches:
      return !inside && boundary;
    case Relation::crosses:
      return inside && outside;
    default:
      return false;
  }
}

}  // namespace

TEST_CASE("related pairs agree with the definition on all pairs") {
  std::mt19937 random(5);
  std::uniform_int_distribution<int> grid(0, 12);
  std::vector<std::string> points, polygons;
  for (int i = 0; i < 60; ++i) {
    std::string text = "MULTIPOINT (";
    for (int k = 0; k <= i % 3; ++k)
      text += (k ? ", " : "") + std::to_string(grid(random)) + " " + std::to_string(grid(random));
    points.push_back(text + ")");
    const int x = grid(random), y = grid(random), w = 1 + grid(random) % 4;
    auto at = [](int a, int b) { return std::to_string(a) + " " + std::to_string(b); };
    polygons.push_back("POLYGON ((" + at(x, y) + ", " + at(x + w, y) + ", " + at(x + w, y + w) + ", " + at(x, y + w) +
                       ", " + at(x, y) + "))");
  }
  const StoreBuffer point_store = test::store_of(points), polygon_store = test::store_of(polygons);
  const auto point_handles = test::all_handles(point_store.view()),
             polygon_handles = test::all_handles(polygon_store.view());
  const ShapeRows a{point_store.view(), point_handles}, b{polygon_store.view(), polygon_handles};
  std::size_t found = 0;
  for (Relation relation : {Relation::intersects, Relation::within, Relation::covered_by, Relation::touches,
                            Relation::crosses, Relation::disjoint, Relation::contains, Relation::overlaps}) {
    std::vector<std::pair<int, int>> expected, got;
    for (int i = 0; i < a.size(); ++i)
      for (int j = 0; j < b.size(); ++j)
        if (holds_by_definition(relation, a.store, i, b.store, j)) expected.emplace_back(i, j);
    for (const RowPair& pair : related_pairs(a, b, relation, 0)) got.emplace_back(pair.x, pair.y);
    CHECK(got == expected);
    found += got.size();
  }
  CHECK(found > 3600);
  // From the other side: contains is the converse of within.
  CHECK(related_pairs(b, a, Relation::contains, 0).size() == related_pairs(a, b, Relation::within, 0).size());
  CHECK(related_pairs(b, a, Relation::covers, 0).size() == related_pairs(a, b, Relation::covered_by, 0).size());
}

TEST_CASE("within distance counts to edges and into holes") {
  const StoreBuffer square = test::store_of({"POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (4 4, 6 4, 6 6, 4 6, 4 4))"});
  const StoreBuffer points = test::store_of({"POINT (13 14)", "POINT (5 5)", "POINT (1 1)", "POINT (10 12.5)"});
  const auto ph = test::all_handles(points.view()), sh = test::all_handles(square.view());
  auto near = [&](double distance) {
    std::vector<int> rows;
    for (const RowPair& pair :
         related_pairs({points.view(), ph}, {square.view(), sh}, Relation::within_distance, distance))
      rows.push_back(pair.x);
    return rows;
  };
  CHECK(near(0) == std::vector<int>{2});
  CHECK(near(1) == std::vector<int>{1, 2});
  CHECK(near(2.5) == std::vector<int>{1, 2, 3});
  CHECK(near(5) == std::vector<int>{0, 1, 2, 3});
  CHECK_THROWS_AS(near(-1), ArgumentError);
}

TEST_CASE("planar measures follow their definitions") {
  const StoreBuffer store = test::store_of(
      {"POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (4 4, 6 4, 6 6, 4 6, 4 4))", "LINESTRING (0 0, 3 4, 3 10)",
       "MULTIPOINT (0 0, 4 8)", "POLYGON ((500000 5000000, 500000.001 5000000, 500000 5000000.001, 500000 5000000))",
       "GEOMETRYCOLLECTION (POINT (100 100), LINESTRING (0 0, 2 0))", "POLYGON EMPTY",
       "POLYGON ((0 0, 0 10, 10 10, 10 0, 0 0))"});
  const StoreView view = store.view();
  CHECK(planar_area(view, 0) == 96);
  CHECK(planar_perimeter(view, 0) == 48);
  CHECK(planar_length(view, 0) == 0);
  CHECK(planar_length(view, 1) == 11);
  CHECK(planar_area(view, 3) == Approx(0.5e-6).epsilon(1e-5));
  CHECK(planar_area(view, 6) == 100);
  const Coordinate square = planar_centroid(view, 0), line = planar_centroid(view, 1),
                   points = planar_centroid(view, 2);
  CHECK((square.x == Approx(5) && square.y == Approx(5)));
  CHECK((line.x == Approx((1.5 * 5 + 3 * 6) / 11) && line.y == Approx((2 * 5 + 7 * 6) / 11.)));
  CHECK((points.x == 2 && points.y == 4));
  CHECK(planar_centroid(view, 4).x == 1);
  CHECK(std::isnan(planar_centroid(view, 5).x));
  CHECK((planar_centroid(view, 6).x == Approx(5)));
}
