// Overlays of random layers: whatever goes in, what comes out is valid and adds up.
#include <catch2/catch.hpp>
#include <cstdlib>
#include <functional>

#include "kernel/measure/planar.h"
#include "kernel/overlay/dissolve.h"
#include "kernel/overlay/mask.h"
#include "kernel/overlay/overlay.h"
#include "kernel/overlay/repair.h"
#include "kernel/predicate/validity.h"
#include "support.h"

using namespace civic;

namespace {

using Ring = std::vector<std::pair<double, double>>;

// Shapes of one polygon each, whose rings may cross, overlap or touch as they like.
StoreBuffer layer_of(const std::vector<std::vector<Ring>>& shapes) {
  ShapeBuilder builder;
  for (const auto& rings : shapes) {
    builder.begin_shape(type_code(ShapeKind::polygon, false, false));
    builder.begin_part(ShapeKind::polygon);
    for (const Ring& ring : rings) {
      builder.begin_ring();
      for (const auto& [x, y] : ring) builder.vertex(x, y);
      builder.close_ring();
    }
    builder.end_shape();
  }
  return builder.take();
}

class Random {
 public:
  explicit Random(unsigned seed) : engine_(seed) {}
  int whole(int low, int high) { return std::uniform_int_distribution<int>(low, high)(engine_); }
  double real(double low, double high) { return std::uniform_real_distribution<double>(low, high)(engine_); }

 private:
  std::mt19937 engine_;
};

// Few corners on a small grid: everything meets everything.
Ring grid_ring(Random& random) {
  Ring ring;
  for (int n = random.whole(3, 7); n > 0; --n) ring.emplace_back(random.whole(0, 6), random.whole(0, 6));
  return ring;
}

Ring star(Random& random, double x, double y, double radius) {
  Ring ring;
  const int n = random.whole(4, 10);
  for (int i = 0; i < n; ++i) {
    const double angle = 2 * civic::pi * i / n, r = radius * random.real(0.2, 1);
    ring.emplace_back(x + r * std::cos(angle), y + r * std::sin(angle));
  }
  return ring;
}

// A coast: sides broken again and again.
Ring coast(Random& random, double x, double y, double radius) {
  Ring ring = star(random, x, y, radius);
  for (int level = random.whole(0, 2); level > 0; --level) {
    Ring finer;
    for (std::size_t i = 0; i < ring.size(); ++i) {
      const auto [ax, ay] = ring[i];
      const auto [bx, by] = ring[(i + 1) % ring.size()];
      const double push = random.real(-0.25, 0.25);
      finer.emplace_back(ax, ay);
      finer.emplace_back((ax + bx) / 2 - (by - ay) * push, (ay + by) / 2 + (bx - ax) * push);
    }
    ring.swap(finer);
  }
  return ring;
}

Ring changed(Ring ring, const std::function<std::pair<double, double>(double, double)>& change) {
  for (auto& [x, y] : ring) std::tie(x, y) = change(x, y);
  return ring;
}

// Two layers of some kind.
struct Case {
  StoreBuffer x, y;
};
Case random_case(Random& random) {
  const double far = std::pow(10, random.whole(0, 7)), size = std::pow(10, random.whole(-3, 3));
  std::vector<std::vector<Ring>> x, y;
  switch (random.whole(0, 5)) {
    case 0:  // small whole numbers
      for (int n = random.whole(1, 3); n > 0; --n) x.push_back({grid_ring(random), grid_ring(random)});
      for (int n = random.whole(1, 3); n > 0; --n) y.push_back({grid_ring(random)});
      break;
    case 1: {  // borders that nearly coincide
      const Ring ring = coast(random, far, far, size);
      const double shift = size * std::pow(10, random.whole(-14, -6));
      x.push_back({ring});
      y.push_back({changed(ring, [&](double a, double b) {
        return std::pair(a + random.real(-shift, shift), b + random.real(-shift, shift));
      })});
      break;
    }
    case 2: {  // a copy turned by little or much
      const Ring ring = star(random, far, -far, size);
      const double angle = random.whole(0, 1) ? random.real(0, 6) : std::pow(10, random.whole(-15, -3));
      x.push_back({ring});
      y.push_back({changed(ring, [&](double a, double b) {
        const double u = a - far, v = b + far;
        return std::pair(far + u * std::cos(angle) - v * std::sin(angle),
                         -far + u * std::sin(angle) + v * std::cos(angle));
      })});
      break;
    }
    case 3: {  // corners that differ in the last bit
      auto shaken = [&](double a) {
        for (int n = random.whole(0, 2); n > 0; --n) a = std::nextafter(a, random.whole(0, 1) ? HUGE_VAL : -HUGE_VAL);
        return a;
      };
      const double scale = random.whole(0, 1) ? 1 : 1 / 3.0;
      for (int n = random.whole(2, 4); n > 0; --n)
        (n % 2 ? x : y).push_back({changed(grid_ring(random), [&](double a, double b) {
          return std::pair(shaken(a * scale), shaken(b * scale));
        })});
      break;
    }
    case 4:  // coasts and what lies off them
      for (int n = random.whole(1, 2); n > 0; --n) x.push_back({coast(random, far + random.real(0, size), far, size)});
      for (int n = random.whole(1, 2); n > 0; --n) y.push_back({coast(random, far, far + random.real(0, size), size)});
      break;
    default: {  // many edges through one place
      const int n = random.whole(3, 9);
      for (int k = 0; k < n; ++k) {
        const double angle = random.real(0, 7), wide = random.real(1e-12, 0.3) * size;
        const double dx = std::cos(angle) * size, dy = std::sin(angle) * size, px = -std::sin(angle) * wide,
                     py = std::cos(angle) * wide;
        const Ring strip{{far - dx - px, far - dy - py},
                         {far + dx - px, far + dy - py},
                         {far + dx + px, far + dy + py},
                         {far - dx + px, far - dy + py}};
        (k % 2 ? x : y).push_back({strip});
      }
    }
  }
  return {layer_of(x), layer_of(y)};
}

struct Summary {
  double area = 0, perimeter = 0;
  std::vector<int> x, y;
};

Summary summary_of(const Pieces& pieces) {
  Summary out{0, 0, pieces.x, pieces.y};
  const StoreView s = pieces.store.view();
  for (int i = 0; i < s.size(); ++i) {
    const Problem problem = check_shape(s, i).problem;
    if (problem != Problem::none) FAIL(problem_name(problem) << " in " << test::text_of(s, i));
    out.area += planar_area(s, i);
    out.perimeter += planar_perimeter(s, i);
  }
  return out;
}

StoreBuffer in_order(const StoreView& s, const std::vector<int>& handles) {
  const ShapeRows rows{s, handles};
  std::vector<int> fresh;
  return gather(std::span(&rows, 1), fresh, 0);
}

void check(const Case& c) {
  const auto xh = test::all_handles(c.x.view()), yh = test::all_handles(c.y.view());
  const ShapeRows x{c.x.view(), xh}, y{c.y.view(), yh};
  double largest = 0, perimeters = 0;
  for (const StoreBuffer* s : {&c.x, &c.y}) {
    for (std::size_t i = 0; i < s->x.size(); ++i) largest = std::max({largest, std::fabs(s->x[i]), std::fabs(s->y[i])});
    for (int i = 0; i < s->view().size(); ++i) perimeters += planar_perimeter(s->view(), i);
  }
  const double bound = 8 * 0x1p-52 * largest * perimeters;

  const Summary both = summary_of(overlay(x, y, {true, false, false, false}));
  const Summary only_x = summary_of(mask(x, y, false)), only_y = summary_of(mask(y, x, false));
  const Summary within = summary_of(mask(x, y, true)), back = summary_of(mask(y, x, true));
  const Summary valid_x = summary_of(repair(x, FillRule::even_odd)),
                valid_y = summary_of(repair(y, FillRule::even_odd));
  CHECK(std::fabs(within.area + only_x.area - valid_x.area) <= bound);
  CHECK(std::fabs(back.area + only_y.area - valid_y.area) <= bound);

  const Summary exchanged = summary_of(overlay(y, x, {true, false, false, false}));
  CHECK(std::fabs(exchanged.area - both.area) <= bound);
  CHECK(exchanged.x.size() == both.x.size());

  // In another order of rows.
  std::vector<int> reversed(xh.rbegin(), xh.rend());
  const StoreBuffer turned = in_order(c.x.view(), reversed);
  const auto th = test::all_handles(turned.view());
  CHECK(std::fabs(summary_of(overlay({turned.view(), th}, y, {true, false, false, false})).area - both.area) <= bound);

  // The union of all of x and y.
  const ShapeRows layers[] = {x, y};
  std::vector<int> handles;
  const StoreBuffer all = gather(layers, handles, 0);
  const std::vector<int> one(handles.size(), 0);
  const double together = summary_of(dissolve({all.view(), handles}, one)).area;
  const std::vector<int> x_group(xh.size(), 0), y_group(yh.size(), 0);
  const double alone_x = summary_of(dissolve(x, x_group)).area, alone_y = summary_of(dissolve(y, y_group)).area;
  CHECK(together <= alone_x + alone_y + bound);
  CHECK(together >= std::max(alone_x, alone_y) - bound);
}

}  // namespace

TEST_CASE("overlays of random layers are valid and add up") {
  const char* asked = std::getenv("CIVIC_OVERLAY_RUNS");
  const int runs = asked ? std::atoi(asked) : 400;
  const char* given = std::getenv("CIVIC_OVERLAY_SEED");
  const unsigned seed = given ? static_cast<unsigned>(std::atoi(given)) : 20260817;
  for (int run = 0; run < runs; ++run) {
    Random random(seed + static_cast<unsigned>(run));
    INFO("seed " << seed + static_cast<unsigned>(run));
    check(random_case(random));
  }
}

TEST_CASE("a layer moved by steps of the grid gives the same pieces, moved") {
  Random random(5);
  for (int run = 0; run < 200; ++run) {
    std::vector<std::vector<Ring>> x{{grid_ring(random)}, {grid_ring(random)}},
        y{{grid_ring(random), grid_ring(random)}};
    auto areas = [&](double dx, double dy) {
      for (auto* layer : {&x, &y})
        for (auto& rings : *layer)
          for (Ring& ring : rings) ring = changed(ring, [&](double a, double b) { return std::pair(a + dx, b + dy); });
      const StoreBuffer a = layer_of(x), b = layer_of(y);
      const auto ah = test::all_handles(a.view()), bh = test::all_handles(b.view());
      const Pieces pieces = overlay({a.view(), ah}, {b.view(), bh}, {true, true, true, false});
      std::vector<double> out;
      for (int i = 0; i < pieces.store.view().size(); ++i) out.push_back(planar_area(pieces.store.view(), i));
      return out;
    };
    const std::vector<double> here = areas(0, 0), there = areas(1024, -4096);
    REQUIRE(here.size() == there.size());
    for (std::size_t i = 0; i < here.size(); ++i) CHECK(there[i] == Approx(here[i]).margin(1e-9));
  }
}

TEST_CASE("stacks of shapes dissolved by levels cover what they cover at once, group by group") {
  std::mt19937 random(77);
  std::uniform_real_distribution<double> place(0, 40), radius(2, 9);
  for (const int n : {40, 300, 900}) {
    std::vector<std::string> texts;
    std::vector<int> groups;
    for (int i = 0; i < n; ++i) {
      texts.push_back(test::random_star(random, place(random), place(random), radius(random), 12));
      groups.push_back(static_cast<int>(random() % 3));
    }
    const StoreBuffer store = test::store_of(texts);
    const std::vector<int> handles = test::all_handles(store.view());
    const Pieces found = dissolve({store.view(), handles}, groups);
    REQUIRE(found.x == std::vector<int>{0, 1, 2});
    CHECK(found.self_crossing_x.empty());
    for (int group = 0; group < 3; ++group) {
      std::vector<int> members;
      for (int i = 0; i < n; ++i)
        if (groups[i] == group) members.push_back(handles[i]);
      const ShapeRows rows{store.view(), members};
      const StoreBuffer at_once = united({&rows, 1});
      const double area = planar_area(at_once.view(), 0);
      CHECK(planar_area(found.store.view(), group) == Approx(area).epsilon(1e-12));
      CHECK(check_shape(found.store.view(), group).problem == Problem::none);
    }
  }
}
