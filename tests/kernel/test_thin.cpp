// What is left of shapes on the cells of a device.
#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>

#include "kernel/index/kept_index.h"
#include "kernel/shapes/thin.h"
#include "support.h"

using namespace civic;

namespace {

StoreBuffer rings_of(const std::vector<std::vector<std::pair<double, double>>>& polygons) {
  ShapeBuilder builder;
  for (const auto& ring : polygons) {
    builder.begin_shape(3);
    builder.begin_part(ShapeKind::polygon);
    builder.begin_ring();
    for (const auto& [x, y] : ring) builder.vertex(x, y);
    builder.end_shape();
  }
  return builder.take();
}

}  // namespace

TEST_CASE("vertices fall on cells, repeats and those in line go") {
  const StoreBuffer store =
      rings_of({{{0, 0}, {3.2, 0.1}, {6.7, 0.2}, {9.9, 0.3}, {9.8, 9.9}, {9.6, 9.7}, {0, 9.9}, {0, 0}}});
  const auto handles = test::all_handles(store.view());
  const DrawnShapes drawn = thinned({store.view(), handles}, {0, 0, 10, 10}, 1, 1);
  REQUIRE(drawn.x == std::vector<double>{0.5, 9.5, 9.5, 0.5, 0.5});
  REQUIRE(drawn.y == std::vector<double>{0.5, 0.5, 9.5, 9.5, 0.5});
  REQUIRE(drawn.row == std::vector<int>(5, 0));
}

TEST_CASE("two shapes share the border they shared, in either direction") {
  std::vector<std::pair<double, double>> border;
  std::uint32_t state = 7;
  for (int i = 0; i <= 2000; ++i) {
    state = state * 1664525u + 1013904223u;
    border.push_back({50 + (state >> 8) * 6.0 / (1 << 24), i * 0.05});
  }
  auto left = border, right = border;
  std::reverse(right.begin(), right.end());
  left.insert(left.end(), {{0, 100}, {0, 0}, border.front()});
  right.insert(right.end(), {{99, 0}, {99, 100}, border.back()});
  const StoreBuffer store = rings_of({left, right});
  const auto handles = test::all_handles(store.view());
  const DrawnShapes drawn = thinned({store.view(), handles}, {0, 0, 100, 100}, 0.7, 0.7);
  // Signed areas of the two sum up to that of the whole: what one border takes the other gives.
  auto area = [&](int row) {
    double sum = 0;
    for (std::size_t i = 1; i < drawn.x.size(); ++i)
      if (drawn.row[i] == row && drawn.row[i - 1] == row)
        sum += drawn.x[i - 1] * drawn.y[i] - drawn.x[i] * drawn.y[i - 1];
    return sum / 2;
  };
  REQUIRE(drawn.x.size() < 3000);
  const double width = 0.7 * std::floor(99 / 0.7), height = 0.7 * std::floor(100 / 0.7);
  REQUIRE(std::fabs(std::fabs(area(0)) + std::fabs(area(1)) - width * height) < 1e-6);
}

TEST_CASE("shells below a cell become one, such holes close, shapes beyond the window go") {
  ShapeBuilder builder;
  builder.begin_shape(3);
  builder.begin_part(ShapeKind::polygon);
  for (const double side : {8.0, 0.01}) {
    builder.begin_ring();
    for (const auto& [x, y] : {std::pair(1., 1.), {1 + side, 1.}, {1 + side, 1 + side}, {1., 1.}}) builder.vertex(x, y);
  }
  builder.end_shape();
  for (const double at : {5.0, 50.0}) {
    builder.begin_shape(3);
    builder.begin_part(ShapeKind::polygon);
    builder.begin_ring();
    for (const auto& [x, y] : {std::pair(at, at), {at + 1e-4, at}, {at, at + 1e-4}, {at, at}}) builder.vertex(x, y);
    builder.end_shape();
  }
  const StoreBuffer store = builder.take();
  const auto handles = test::all_handles(store.view());
  const DrawnShapes drawn = thinned({store.view(), handles}, {0, 0, 10, 10}, 0.5, 0.5);
  REQUIRE(drawn.ring.back() == 2);
  REQUIRE(drawn.row.back() == 1);
  REQUIRE(std::count(drawn.row.begin(), drawn.row.end(), 1) == 5);
}

TEST_CASE("an index is kept for the same boxes only") {
  ShapeBuilder builder;
  for (int i = 0; i < 3000; ++i) {
    builder.begin_shape(1);
    builder.begin_part(ShapeKind::point);
    builder.begin_ring();
    builder.vertex(i, i * i % 977);
    builder.end_shape();
  }
  const StoreBuffer store = builder.take();
  auto handles = test::all_handles(store.view());
  const auto first = index_of({store.view(), handles});
  REQUIRE(index_of({store.view(), handles}) == first);
  std::swap(handles[0], handles[1]);
  const auto second = index_of({store.view(), handles});
  REQUIRE(second != first);
  std::vector<int> found;
  second->search(store.view().boxes[0], found);
  REQUIRE(found == std::vector<int>{1});
}
