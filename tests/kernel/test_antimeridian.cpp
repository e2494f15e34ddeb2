#include <catch2/catch.hpp>

#include "kernel/shapes/antimeridian.h"
#include "support.h"

using namespace civic;

namespace {

AntimeridianCut cut(const std::vector<std::string>& texts) {
  const StoreBuffer store = test::store_of(texts);
  return cut_at_antimeridian({store.view(), test::all_handles(store.view())}, -1);
}

std::string cut_text(const std::string& text) {
  const AntimeridianCut out = cut({text});
  return test::text_of(out.store.view(), 0);
}

double area_of(const StoreView& store, int shape) {
  double sum = 0;
  const IndexRange rings = store.shape_rings(shape);
  for (int r = rings.begin; r < rings.end; ++r) sum += signed_area_twice(store, store.vertices(r)) / 2;
  return sum;
}

}  // namespace

TEST_CASE("shapes across the antimeridian are cut there, however they are written") {
  for (const char* text : {"POLYGON ((170 -10, 190 -10, 190 10, 170 10, 170 -10))",
                           "POLYGON ((170 -10, -170 -10, -170 10, 170 10, 170 -10))"}) {
    const AntimeridianCut out = cut({text});
    const StoreView view = out.store.view();
    CHECK(out.cut == 1);
    CHECK(view.parts(0).size() == 2);
    CHECK(area_of(view, 0) == 400);
    CHECK((view.boxes[0].xmin == -180 && view.boxes[0].xmax == 180));
    for (const double x : view.x) CHECK(std::fabs(x) >= 170);
  }
  CHECK(cut_text("LINESTRING (170 0, -170 10, -160 10)") ==
        "MULTILINESTRING ((170 0, 180 5), (-180 5, -170 10, -160 10))");
  CHECK(cut_text("POINT (190 5)") == "POINT (-170 5)");
  CHECK(cut_text("MULTIPOINT ((190 5), (170 5))") == "MULTIPOINT ((-170 5), (170 5))");
  CHECK(cut_text("LINESTRING Z (170 0 0, -170 0 8)") == "MULTILINESTRING Z ((170 0 0, 180 0 4), (-180 0 4, -170 0 8))");
  CHECK(cut_text("POLYGON ((0 0, 1 0, 1 1, 0 0))") == "POLYGON ((0 0, 1 0, 1 1, 0 0))");
}

namespace {

std::string whole_text(const std::string& text, bool only_edges = false) {
  const StoreBuffer store = test::store_of({text});
  const InOnePiece out = in_one_piece({store.view(), test::all_handles(store.view())}, only_edges, -1);
  return test::text_of(out.store.view(), 0);
}

}  // namespace

TEST_CASE("shapes come in one piece, with parts beside each other") {
  CHECK(whole_text("POLYGON ((170 -10, -170 -10, -170 10, 170 10, 170 -10))") ==
        "POLYGON ((170 -10, 190 -10, 190 10, 170 10, 170 -10))");
  const std::string apart = "MULTIPOLYGON (((177 0, 180 0, 180 1, 177 0)), ((-180 0, -179 0, -180 1, -180 0)))";
  CHECK(whole_text(apart) == "MULTIPOLYGON (((177 0, 180 0, 180 1, 177 0)), ((180 0, 181 0, 180 1, 180 0)))");
  CHECK(whole_text(apart, true) == apart);
  // Beyond half the world, and where the parts are nearer to one another the other way, they stay.
  const std::string wide = "MULTIPOLYGON (((-100 0, -99 0, -99 1, -100 0)), ((70 0, 71 0, 71 1, 70 0)))";
  CHECK(whole_text(wide) == wide);
  CHECK(whole_text("MULTIPOINT ((179 0), (-179 0))") == "MULTIPOINT ((179 0), (181 0))");
  CHECK(whole_text("LINESTRING (170 0, -170 10)") == "LINESTRING (170 0, 190 10)");
}

TEST_CASE("edges from -180 to 180 close a map, unless they go on as they came") {
  for (const char* map : {"POLYGON ((-180 -90, 180 -90, 180 90, -180 90, -180 -90))",
                          "POLYGON ((-180 -70, -180 -90, 180 -90, 180 -70, 90 -66, -90 -65, -180 -70))"}) {
    CHECK(whole_text(map) == map);
    CHECK(cut_text(map) == map);
  }
  CHECK(whole_text("POLYGON ((178 0, 180 0, -180 0, -179 0, -180 1, 180 1, 178 0))") ==
        "POLYGON ((178 0, 180 0, 180 0, 181 0, 180 1, 180 1, 178 0))");
  // A ring around the pole whose closing edge is one place.
  const StoreBuffer pole = test::store_of({"POLYGON ((-180 -84, 180 -84, 90 -70, 0 -70, -90 -70, -180 -84))"});
  CHECK(in_one_piece({pole.view(), test::all_handles(pole.view())}, true, -1).around_pole == 1);
}

TEST_CASE("holes are told by where rings lie, not by how a reader took rings that jump") {
  // An island taken for a hole of a ring around the pole, and a lake for a shell.
  const std::string around =
      "((-170 -70, -50 -70, 70 -70, 170 -70, -170 -70), (10 -50, 12 -50, 12 -52, 10 -52, 10 -50))";
  const StoreBuffer pole = test::store_of({"POLYGON " + around});
  const InOnePiece out = in_one_piece({pole.view(), test::all_handles(pole.view())}, true, -1);
  CHECK(out.around_pole == 1);
  CHECK(out.store.view().parts(0).size() == 2);
  const StoreBuffer lake =
      test::store_of({"MULTIPOLYGON (((170 -10, -170 -10, -170 10, 170 10, 170 -10)), ((-178 -2, -176 -2, -176 2, -178 "
                      "2, -178 -2)))"});
  const InOnePiece with_lake = in_one_piece({lake.view(), test::all_handles(lake.view())}, true, -1);
  CHECK(with_lake.store.view().parts(0).size() == 1);
  CHECK(std::fabs(area_of(with_lake.store.view(), 0)) == 400 - 8);
}

TEST_CASE("holes go with their side, and are opened where they lie on the meridian") {
  const AntimeridianCut beside =
      cut({"POLYGON ((170 -10, 190 -10, 190 10, 170 10, 170 -10), (172 0, 172 1, 173 1, 172 0))"});
  CHECK(area_of(beside.store.view(), 0) == 399.5);
  const AntimeridianCut across =
      cut({"POLYGON ((170 -10, 190 -10, 190 10, 170 10, 170 -10), (178 -2, 178 2, 182 2, 182 -2, 178 -2))"});
  CHECK(area_of(across.store.view(), 0) == 400 - 16);
  CHECK(across.store.view().rings(0).size() == 1);
}

TEST_CASE("areas add up for random stars across the meridian") {
  std::mt19937 random(5);
  std::uniform_real_distribution<double> off(-8, 8);
  for (int i = 0; i < 300; ++i) {
    const StoreBuffer star =
        test::store_of({test::random_star(random, 180 + off(random), off(random), 10, 5 + i % 60)});
    const AntimeridianCut out = cut_at_antimeridian({star.view(), std::vector<int>{1}}, -1);
    CHECK(area_of(out.store.view(), 0) == Approx(area_of(star.view(), 0)).epsilon(1e-12));
    for (const double x : out.store.x) REQUIRE(std::fabs(x) <= 180);
  }
}

TEST_CASE("a ring around a pole follows the antimeridian to the pole of its hemisphere") {
  const AntimeridianCut out = cut({"POLYGON ((-120 80, 0 80, 120 80, -120 80))"});
  CHECK((out.cut == 0 && out.around_pole == 1));
  CHECK(test::text_of(out.store.view(), 0) ==
        "POLYGON ((-180 80, -120 80, 0 80, 120 80, 180 80, 180 90, -180 90, -180 80))");
  const AntimeridianCut south = cut({"POLYGON ((-170 -80, 100 -70, 10 -80, -170 -80))"});
  const StoreView s = south.store.view();
  CHECK(south.around_pole == 1);
  CHECK(*std::min_element(s.y.begin(), s.y.end()) == -90);
  CHECK(*std::max_element(s.x.begin(), s.x.end()) == 180);
}

TEST_CASE("a polygon and its hole that both run around a pole become one ring") {
  const AntimeridianCut out = cut({"POLYGON ((-120 70, 0 70, 120 70, -120 70), (-120 80, 120 80, 0 80, -120 80))"});
  const StoreView s = out.store.view();
  CHECK(s.ring_vertices.size() == 2);
  // The band from 70 to 80 degrees all around.
  CHECK(area_of(s, 0) == Approx(3600));
}

TEST_CASE("an edge of more than a turn is no jump, and a hair beyond 180 is 180") {
  for (const char* text : {"POLYGON ((-181 -9, 181 -9, 181 9, -181 9, -181 -9))",
                           "POLYGON ((-180.000000001 -9, 180.000000001 -9, 180.000000001 9, -180.000000001 9, "
                           "-180.000000001 -9))",
                           "POLYGON ((0 -9, 360.00000001 -9, 360.00000001 9, 0 9, 0 -9))"}) {
    const AntimeridianCut out = cut({text});
    const StoreView view = out.store.view();
    CHECK(out.wrapped == std::vector<int>{0});
    CHECK(area_of(view, 0) >= 6480);
    for (int v = 1; v < static_cast<int>(view.x.size()); ++v) CHECK(std::fabs(view.x[v]) <= 180);
    CHECK_FALSE(has_long_edge(view, 0));
  }
  CHECK(cut({"POLYGON ((170 -9, 190 -9, 190 9, 170 9, 170 -9))"}).wrapped.empty());
}

TEST_CASE("what lies on no globe stays where it is, and ends") {
  CHECK(cut_text("POINT (1e15 5)") == "POINT (1e+15 5)");
  CHECK(cut({"POLYGON ((-1e308 -9, 1e308 -9, 1e308 9, -1e308 9, -1e308 -9))"}).wrapped.size() == 1);
}
