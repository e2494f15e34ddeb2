#include <catch2/catch.hpp>

#include "bytes_by_hand.h"
#include "kernel/base/error.h"
#include "reading.h"

using namespace civic;

namespace {

const test::Ring shell{{0, 0}, {0, 10}, {10, 10}, {10, 0}, {0, 0}}, hole{{2, 2}, {4, 2}, {4, 4}, {2, 4}, {2, 2}},
    island{{20, 0}, {20, 5}, {25, 5}, {20, 0}}, island_hole{{21, 3}, {22, 4}, {21, 4}, {21, 3}};

std::string text_in(const test::Shapes& shapes, int row) { return shapes.text(row); }

test::Ring backwards(test::Ring ring) {
  std::reverse(ring.begin(), ring.end());
  return ring;
}

}  // namespace

TEST_CASE("polygon records made by hand are read, with holes placed in their shells") {
  const test::Shapes layer =
      test::read_shp(test::shapefile(5, {test::poly_record(5, {shell, hole}), test::ByteMaker().little(0).bytes,
                                         test::poly_record(5, {hole, island, island_hole, shell})}));
  CHECK(layer.text(0) == "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 2 4, 4 4, 4 2, 2 2))");
  CHECK(layer.text(1) == "none");
  CHECK(layer.text(2) ==
        "MULTIPOLYGON (((20 0, 25 5, 20 5, 20 0), (21 3, 21 4, 22 4, 21 3)), ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 2 "
        "4, 4 4, 4 2, 2 2)))");
  CHECK(layer.notices.all().empty());
  CHECK(layer.store.boxes[1].xmax == 25);
}

TEST_CASE("rings that run the wrong way or stay open are mended and counted") {
  test::Ring open = shell;
  open.pop_back();
  const test::Shapes layer = test::read_shp(
      test::shapefile(5, {test::poly_record(5, {backwards(shell)}),
                          test::poly_record(5, {backwards(shell), backwards(island)}), test::poly_record(5, {open})}));
  CHECK(layer.text(0) == "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))");
  CHECK(layer.text(1) == "MULTIPOLYGON (((0 0, 10 0, 10 10, 0 10, 0 0)), ((20 0, 25 5, 20 5, 20 0)))");
  CHECK(layer.text(2).substr(0, 13) == "POLYGON ((0 0");
  CHECK(layer.store.view().shape_vertices(2).size() == 5);
  REQUIRE(layer.notices.all().size() == 2);
  CHECK(layer.notices.all()[0].count + layer.notices.all()[1].count == 3);
}

TEST_CASE("points, lines, Z and M made by hand are read") {
  const auto point = test::ByteMaker().little(11).real(1).real(2).real(3).real(4).bytes;
  CHECK(text_in(test::read_shp(test::shapefile(11, {point})), 0) == "POINT ZM (1 2 3 4)");
  const auto without_m = test::ByteMaker().little(11).real(1).real(2).real(3).real(-1e39).bytes;
  CHECK(text_in(test::read_shp(test::shapefile(11, {without_m})), 0) == "POINT Z (1 2 3)");
  CHECK(
      text_in(test::read_shp(test::shapefile(3, {test::poly_record(3, {{{0, 0}, {1, 1}}, {{5, 5}, {6, 6}, {7, 5}}})})),
              0) == "MULTILINESTRING ((0 0, 1 1), (5 5, 6 6, 7 5))");
  const auto several =
      test::ByteMaker().little(8).real(0).real(0).real(0).real(0).little(2).real(1).real(2).real(3).real(4).bytes;
  CHECK(text_in(test::read_shp(test::shapefile(8, {several})), 0) == "MULTIPOINT ((1 2), (3 4))");
}

TEST_CASE("records that are not chosen are left out, and damage is named with record and byte") {
  const auto a = test::ByteMaker().little(1).real(1).real(1).bytes,
             b = test::ByteMaker().little(1).real(2).real(2).bytes;
  const auto both = test::shapefile(1, {a, b});
  const InputFile file{ByteSpan(both)};
  ShapefileReader reader(file, nullptr, false);
  const test::Shapes layer = test::decode(reader, {1});
  REQUIRE(layer.handles.size() == 1);
  CHECK(layer.text(0) == "POINT (2 2)");

  auto bytes = test::shapefile(1, {a, b});
  bytes.resize(bytes.size() - 5);
  CHECK_THROWS_WITH(test::read_shp(bytes), Catch::Contains("record 2 is cut off") && Catch::Contains("byte 136"));
  CHECK_THROWS_WITH(test::read_shp(test::shapefile(31, {})), Catch::Contains("multipatch"));
  CHECK_THROWS_WITH(test::read_shp(test::shapefile(1, {test::poly_record(3, {shell})})),
                    Catch::Contains("record 1 has shape type 3"));
  auto wrong = test::shapefile(1, {a});
  wrong[3] = 9;
  CHECK_THROWS_WITH(test::read_shp(wrong), Catch::Contains("9994"));
  auto greedy = test::poly_record(5, {shell});
  greedy[40] = 0xff;
  CHECK_THROWS_WITH(test::read_shp(test::shapefile(5, {greedy})), Catch::Contains("announces more than it holds"));
  const test::Shapes odd =
      test::read_shp(test::shapefile(1, {test::ByteMaker().little(1).real(nan_value).real(1).bytes}));
  CHECK(odd.notices.all().at(0).what == "shapes hold coordinates that are not finite");
}

TEST_CASE("what is encoded reads back to the last bit") {
  std::mt19937 random(2);
  std::uniform_real_distribution<double> any(-1e7, 1e7);
  const std::vector<std::vector<std::string>> layers{
      {"POINT (0.1 1e-300)", "POINT (3 4)"},
      {"MULTIPOINT ((1 2), (3 4))", "MULTIPOINT ((0.1 0.2))"},
      {"LINESTRING (0 0, 1.1 2.2)", "MULTILINESTRING ((0 0, 1 1), (2 2, 3 3, 4 4))"},
      {"POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 2 4, 4 4, 4 2, 2 2))",
       test::random_star(random, any(random), any(random), 999.9, 60)},
      {"POINT Z (1 2 3)"},
      {"POINT ZM (1 2 3 4)"},
      {"POINT M (1 2 4)"},
      {"LINESTRING M (0 0 1, 1 1 NaN)"},
      {"POLYGON Z ((0 0 1, 4 0 2, 4 4 3, 0 0 1))"},
      {"MULTIPOINT ZM ((1 2 3 4), (5 6 7 8))"}};
  for (const auto& texts : layers) {
    const StoreBuffer store = test::store_of(texts);
    std::vector<int> handles = test::all_handles(store.view());
    handles.push_back(-1);
    const ShapefileBytes bytes = encode_shapefile({store.view(), handles});
    CHECK(bytes.shx.size() == 100 + 8 * handles.size());
    const test::Shapes again = test::read_shp(bytes.shp, bytes.shx);
    for (std::size_t i = 0; i < texts.size(); ++i)
      if (texts[i] != "MULTIPOINT ((0.1 0.2))")
        CHECK(again.text(static_cast<int>(i)) == test::text_of(store.view(), static_cast<int>(i)));
    CHECK(again.text(static_cast<int>(texts.size())) == "none");
  }
  const StoreBuffer mixed = test::store_of({"POINT (1 1)", "LINESTRING (0 0, 1 1)"});
  CHECK_THROWS_WITH(encode_shapefile({mixed.view(), test::all_handles(mixed.view())}),
                    Catch::Contains("row 2 is a line"));
}

namespace {

test::Bytes point_at(double x, double y) { return test::ByteMaker().little(1).real(x).real(y).bytes; }

// An index file of (offset, length) pairs in words.
test::Bytes index_of(const std::vector<std::pair<int, int>>& entries) {
  test::ByteMaker file;
  file.big(9994).big(0).big(0).big(0).big(0).big(0).big(50 + 4 * static_cast<std::uint32_t>(entries.size()));
  file.little(1000).little(1);
  for (int i = 0; i < 8; ++i) file.real(0);
  for (auto [offset, length] : entries) file.big(offset).big(length);
  return file.bytes;
}

}  // namespace

TEST_CASE("the index file gives the order of rows; one that does not fit is rebuilt by walking") {
  const auto shp = test::shapefile(1, {point_at(1, 1), point_at(2, 2), point_at(3, 3)});
  const auto swapped = test::read_shp(shp, index_of({{78, 10}, {50, 10}, {64, 10}}));
  CHECK((swapped.text(0) == "POINT (3 3)" && swapped.text(1) == "POINT (1 1)" && swapped.notices.all().empty()));
  for (const auto& wrong : {index_of({{50, 10}}), index_of({{50, 10}, {64, 9}, {78, 10}}),
                            index_of({{50, 10}, {64, 10}, {78, 10000}}), test::Bytes(103, 1)}) {
    const auto walked = test::read_shp(shp, wrong);
    CHECK((walked.handles.size() == 3 && walked.text(2) == "POINT (3 3)"));
    CHECK(test::noted(walked.notices, "do not fit"));
  }
}

TEST_CASE("without an index, records out of order come in the order of their numbers") {
  auto shp = test::shapefile(1, {point_at(1, 1), point_at(2, 2)});
  shp[103] = 2;
  shp[103 + 28] = 1;
  const auto ordered = test::read_shp(shp);
  CHECK((ordered.text(0) == "POINT (2 2)" && ordered.text(1) == "POINT (1 1)"));
  CHECK(test::noted(ordered.notices, "out of order"));
  shp[103] = 7;  // numbers that are not 1 to n tell nothing
  CHECK(test::read_shp(shp).text(0) == "POINT (1 1)");
}

TEST_CASE("records within a window are found by their boxes, as by decoding all") {
  std::mt19937 random(6);
  std::uniform_real_distribution<double> any(0, 100);
  std::vector<std::string> texts;
  for (int i = 0; i < 300; ++i)
    texts.push_back(test::random_star(random, any(random), any(random), 5, i == 7 ? 9000 : 40));
  const StoreBuffer store = test::store_of(texts);
  auto handles = test::all_handles(store.view());
  handles[5] = -1;
  const ShapefileBytes bytes = encode_shapefile({store.view(), handles});
  const InputFile shp{ByteSpan(bytes.shp)}, shx{ByteSpan(bytes.shx)};
  const ShapefileReader reader(shp, &shx, false);
  const Box window{20, 30, 50, 45};
  std::vector<int> expected;
  for (int i = 0; i < 300; ++i)
    if (handles[i] > 0 && store.boxes[i].meets(window)) expected.push_back(i);
  CHECK(expected.size() > 10);
  CHECK(reader.records_within(window) == expected);
}

TEST_CASE("damage is skipped when asked, and noted") {
  auto greedy = test::poly_record(5, {shell});
  greedy[40] = 0xff;
  auto shp = test::shapefile(5, {test::poly_record(5, {shell}), greedy, test::poly_record(5, {island})});
  const auto skipped = test::read_shp(shp, {}, true);
  CHECK((skipped.handles.size() == 3 && skipped.text(1) == "none" && skipped.text(2) != "none"));
  CHECK(test::noted(skipped.notices, "became missing shapes"));
  shp.resize(shp.size() - 9);
  const auto cut = test::read_shp(shp, {}, true);
  CHECK(cut.handles.size() == 2);
  CHECK(test::noted(cut.notices, "as far as they are sound"));
}

TEST_CASE("a layer beyond 2 GB is refused before it is encoded") {
  StoreBuffer store = test::store_of({"LINESTRING (0 0, 1 1)"});
  store.ring_vertices[1] = 140000000;  // as if it had that many vertices; none is read before the refusal
  const std::vector<int> handles{1};
  CHECK_THROWS_WITH(encode_shapefile({store.view(), handles}), Catch::Contains("2 GB"));
}
