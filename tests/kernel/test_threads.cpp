// The core's work on layers large enough for several threads: they give what one thread gives, and ThreadSanitizer
// (make threads) watches them.
#include <catch2/catch.hpp>

#include "kernel/base/parallel.h"
#include "kernel/classify/intervals.h"
#include "kernel/overlay/overlay.h"
#include "kernel/query/nearest.h"
#include "kernel/query/relate.h"
#include "reading.h"

using namespace civic;

namespace {

struct Layer {
  StoreBuffer store;
  std::vector<int> handles;
  explicit Layer(StoreBuffer buffer) : store(std::move(buffer)), handles(test::all_handles(store.view())) {}
  ShapeRows rows() const { return {store.view(), handles}; }
};

// Stars on a square of 60 by 60, each over its neighbours.
Layer stars(int count, unsigned seed) {
  std::mt19937 random(seed);
  std::uniform_real_distribution<double> place(0, 60);
  std::vector<std::string> texts;
  for (int i = 0; i < count; ++i) {
    const double x = place(random), y = place(random);
    texts.push_back(test::random_star(random, x, y, 1, 12));
  }
  return Layer(test::store_of(texts));
}

Layer places(std::size_t count) {
  std::mt19937 random(9);
  std::uniform_real_distribution<double> place(0, 60);
  ShapeBuilder builder;
  for (std::size_t i = 0; i < count; ++i) {
    builder.begin_shape(type_code(ShapeKind::point, false, false));
    builder.begin_part(ShapeKind::point);
    builder.begin_ring();
    const double x = place(random);
    builder.vertex(x, place(random));
    builder.end_shape();
  }
  return Layer(builder.take());
}

// What `work` gives on three threads, which must be what it gives on one.
template <class Work>
void same_on_several(const Work& work) {
  Context own;
  const WithContext with(own);
  own.threads = 1;
  const auto alone = work();
  own.threads = 3;
  const auto together = work();
  CHECK(alone == together);
}

template <class Rows>
std::vector<std::pair<int, int>> pairs_of(const Rows& rows) {
  std::vector<std::pair<int, int>> pairs;
  for (const auto& row : rows) pairs.emplace_back(row.x, row.y);
  return pairs;
}

const Layer& first() {
  static const Layer layer = stars(2500, 1);
  return layer;
}

}  // namespace

TEST_CASE("overlays on several threads") {
  const Layer second = stars(1500, 2);
  same_on_several([&] {
    const Pieces pieces = overlay(first().rows(), second.rows(), {true, true, true, false});
    return std::tuple(pieces.x, pieces.y, pieces.store.x, pieces.store.y, pieces.store.ring_vertices);
  });
}

TEST_CASE("pairs and nearest on several threads") {
  const Layer points = places(20000);
  same_on_several([&] { return pairs_of(related_pairs(points.rows(), first().rows(), Relation::intersects, 0)); });
  same_on_several([&] { return pairs_of(related_pairs(first().rows(), first().rows(), Relation::touches, 0)); });
  same_on_several([&] { return pairs_of(nearest_rows(points.rows(), first().rows(), {2, 100, 5}).pairs); });
}

TEST_CASE("files on several threads") {
  const ShapefileBytes bytes = encode_shapefile(first().rows());
  same_on_several([&] {
    const test::Shapes read = test::read_shp(bytes.shp, bytes.shx);
    return std::pair(read.store.x, read.handles);
  });
  const Layer points = places(60000);
  same_on_several([&] {
    Notices notices;
    return encode_geojson(points.rows(), {}, {-1, "", GeojsonForm::lines}, notices);
  });
}

TEST_CASE("class breaks on several threads") {
  std::mt19937 random(3);
  std::lognormal_distribution<double> skewed(3, 2);
  std::vector<double> values(150000);
  for (double& value : values) value = skewed(random);
  same_on_several([&] { return natural_breaks(finite_sorted(values), 6); });
}
