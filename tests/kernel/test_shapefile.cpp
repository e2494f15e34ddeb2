#include <catch2/catch.hpp>

#include "bytes_by_hand.h"
#include "kernel/error.h"
#include "kernel/formats/dbase.h"
#include "kernel/formats/shapefile.h"
#include "kernel/formats/zip.h"
#include "support.h"

using namespace civic;

namespace {

struct Layer {
  StoreBuffer store;
  std::vector<int> handles;
  Notices notices;
};

Layer read(const std::vector<std::uint8_t>& bytes, const std::vector<char>& dropped = {}) {
  const ShapefileReader reader(bytes, dropped);
  Layer layer;
  layer.store = StoreBuffer(reader.counts());
  const std::size_t parts = reader.decode(layer.store.target(), layer.notices);
  layer.store.part_types.resize(parts);
  layer.store.part_rings.resize(parts + 1);
  layer.handles = reader.handles(-1);
  return layer;
}

std::string text(const Layer& layer, int row) {
  return layer.handles[row] < 1 ? "none" : test::text_of(layer.store.view(), layer.handles[row] - 1);
}

const test::Ring shell{{0, 0}, {0, 10}, {10, 10}, {10, 0}, {0, 0}}, hole{{2, 2}, {4, 2}, {4, 4}, {2, 4}, {2, 2}},
    island{{20, 0}, {20, 5}, {25, 5}, {20, 0}}, island_hole{{21, 3}, {22, 4}, {21, 4}, {21, 3}};

test::Ring backwards(test::Ring ring) {
  std::reverse(ring.begin(), ring.end());
  return ring;
}

}  // namespace

TEST_CASE("polygon records made by hand are read, with holes placed in their shells") {
  const Layer layer = read(test::shapefile(5, {test::poly_record(5, {shell, hole}), test::ByteMaker().little(0).bytes,
                                               test::poly_record(5, {hole, island, island_hole, shell})}));
  CHECK(text(layer, 0) == "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 2 4, 4 4, 4 2, 2 2))");
  CHECK(text(layer, 1) == "none");
  CHECK(text(layer, 2) ==
        "MULTIPOLYGON (((20 0, 25 5, 20 5, 20 0), (21 3, 21 4, 22 4, 21 3)), ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 2 "
        "4, 4 4, 4 2, 2 2)))");
  CHECK(layer.notices.all().empty());
  CHECK(layer.store.boxes[1].xmax == 25);
}

TEST_CASE("rings that run the wrong way or stay open are mended and counted") {
  test::Ring open = shell;
  open.pop_back();
  const Layer layer = read(
      test::shapefile(5, {test::poly_record(5, {backwards(shell)}),
                          test::poly_record(5, {backwards(shell), backwards(island)}), test::poly_record(5, {open})}));
  CHECK(text(layer, 0) == "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))");
  CHECK(text(layer, 1) == "MULTIPOLYGON (((0 0, 10 0, 10 10, 0 10, 0 0)), ((20 0, 25 5, 20 5, 20 0)))");
  CHECK(text(layer, 2).substr(0, 13) == "POLYGON ((0 0");
  CHECK(layer.store.view().shape_vertices(2).size() == 5);
  REQUIRE(layer.notices.all().size() == 2);
  CHECK(layer.notices.all()[0].count + layer.notices.all()[1].count == 3);
}

TEST_CASE("points, lines, Z and M made by hand are read") {
  const auto point = test::ByteMaker().little(11).real(1).real(2).real(3).real(4).bytes;
  CHECK(text(read(test::shapefile(11, {point})), 0) == "POINT ZM (1 2 3 4)");
  const auto without_m = test::ByteMaker().little(11).real(1).real(2).real(3).real(-1e39).bytes;
  CHECK(text(read(test::shapefile(11, {without_m})), 0) == "POINT Z (1 2 3)");
  CHECK(text(read(test::shapefile(3, {test::poly_record(3, {{{0, 0}, {1, 1}}, {{5, 5}, {6, 6}, {7, 5}}})})), 0) ==
        "MULTILINESTRING ((0 0, 1 1), (5 5, 6 6, 7 5))");
  const auto several =
      test::ByteMaker().little(8).real(0).real(0).real(0).real(0).little(2).real(1).real(2).real(3).real(4).bytes;
  CHECK(text(read(test::shapefile(8, {several})), 0) == "MULTIPOINT ((1 2), (3 4))");
}

TEST_CASE("records deleted in the table are left out, and damage is named with record and byte") {
  const auto a = test::ByteMaker().little(1).real(1).real(1).bytes,
             b = test::ByteMaker().little(1).real(2).real(2).bytes;
  const Layer layer = read(test::shapefile(1, {a, b}), {1, 0});
  REQUIRE(layer.handles.size() == 1);
  CHECK(text(layer, 0) == "POINT (2 2)");

  auto bytes = test::shapefile(1, {a, b});
  bytes.resize(bytes.size() - 5);
  CHECK_THROWS_WITH(read(bytes), Catch::Contains("record 2 is cut off") && Catch::Contains("byte 136"));
  CHECK_THROWS_WITH(read(test::shapefile(31, {})), Catch::Contains("multipatch"));
  CHECK_THROWS_WITH(read(test::shapefile(1, {test::poly_record(3, {shell})})),
                    Catch::Contains("record 1 has shape type 3"));
  auto wrong = test::shapefile(1, {a});
  wrong[3] = 9;
  CHECK_THROWS_WITH(read(wrong), Catch::Contains("9994"));
  auto greedy = test::poly_record(5, {shell});
  greedy[40] = 0xff;
  CHECK_THROWS_WITH(read(test::shapefile(5, {greedy})), Catch::Contains("announces more than it holds"));
  const Layer odd = read(test::shapefile(1, {test::ByteMaker().little(1).real(nan_value).real(1).bytes}));
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
    const Layer again = read(bytes.shp);
    for (std::size_t i = 0; i < texts.size(); ++i)
      if (texts[i] != "MULTIPOINT ((0.1 0.2))")
        CHECK(text(again, static_cast<int>(i)) == test::text_of(store.view(), static_cast<int>(i)));
    CHECK(text(again, static_cast<int>(texts.size())) == "none");
  }
  const StoreBuffer mixed = test::store_of({"POINT (1 1)", "LINESTRING (0 0, 1 1)"});
  CHECK_THROWS_WITH(encode_shapefile({mixed.view(), test::all_handles(mixed.view())}),
                    Catch::Contains("row 2 is a line"));
}

TEST_CASE("a table made by hand is read by type") {
  const auto bytes = test::dbase(
      {{"NAME", 'C', 6, 0}, {"WHOLE", 'N', 4, 0}, {"REAL", 'F', 6, 2}, {"YES", 'L', 1, 0}, {"DAY", 'D', 8, 0}},
      {" "
       "Tern  "
       "   7"
       "  1.50"
       "T"
       "20261124",
       " "
       "Gull  "
       "****"
       "      "
       "?"
       "00000000",
       "*"
       "gone  "
       "   1"
       "  2.00"
       "F"
       "20260101",
       " "
       "      "
       "  -3"
       " -9.25"
       "n"
       "20261332"});
  const DbaseReader reader(bytes);
  const auto deleted = reader.deleted();
  REQUIRE(deleted == std::vector<char>{0, 0, 1, 0});
  Notices notices;
  const Column name = reader.column(0, deleted, notices), whole = reader.column(1, deleted, notices),
               real = reader.column(2, deleted, notices), yes = reader.column(3, deleted, notices),
               day = reader.column(4, deleted, notices);
  CHECK((name.texts[0] == "Tern" && name.texts[1] == "Gull" && name.texts.missing(2)));
  CHECK(whole.integers == std::vector<int>{7, missing_integer, -3});
  CHECK((real.reals[0] == 1.5 && std::isnan(real.reals[1]) && real.reals[2] == -9.25));
  CHECK(yes.integers == std::vector<int>{1, missing_integer, 0});
  CHECK((day.reals[0] == 20781 && std::isnan(day.reals[1]) && std::isnan(day.reals[2])));
  REQUIRE(notices.all().size() == 2);
  CHECK(notices.all()[0].first == "\"****\" in record 2");
  CHECK(notices.all()[1].what == "values of field DAY are no dates");
}

TEST_CASE("whole numbers beyond 2^53 stay text, and wide ones within it are numbers") {
  const auto bytes = test::dbase({{"ID", 'N', 18, 0}, {"BIG", 'N', 18, 0}},
                                 {"  9007199254740992 123456789012345678", "                 5                  7"});
  const DbaseReader reader(bytes);
  Notices notices;
  CHECK(reader.column(0, {}, notices).reals[0] == 9007199254740992.0);
  CHECK(reader.column(1, {}, notices).texts[0] == "123456789012345678");
  CHECK(notices.all().size() == 1);
}

TEST_CASE("damaged tables are refused") {
  const auto good = test::dbase({{"A", 'C', 3, 0}}, {" abc", " def"});
  auto cut = good;
  cut.resize(cut.size() - 2);
  CHECK_THROWS_WITH(DbaseReader(cut), Catch::Contains("cut off in record 2"));
  auto version = good;
  version[0] = 0xf0;
  CHECK_THROWS_AS(DbaseReader(version), FormatError);
  for (std::size_t n = 0; n < good.size(); ++n) CHECK_THROWS_AS(DbaseReader(ByteSpan(good.data(), n)), FormatError);
}

TEST_CASE("numbers in a written table read back the same") {
  Column numbers, texts;
  numbers.name = "n";
  numbers.type = ColumnType::real;
  texts.name = "t";
  texts.type = ColumnType::text;
  std::mt19937_64 random(8);
  SECTION("decimals that fit") { numbers.reals = {0.1, -2.5, 1e6, 123456.789, nan_value}; }
  SECTION("any double") {
    for (int i = 0; i < 500; ++i) {
      const std::uint64_t raw = random();
      double v;
      std::memcpy(&v, &raw, 8);
      numbers.reals.push_back(std::isfinite(v) ? v : 0.1);
    }
  }
  for (std::size_t i = 0; i < numbers.reals.size(); ++i) texts.texts.push(std::string(200 + i, 'x') + "\xc3\xa9");
  const DbaseBytes bytes = encode_dbase({numbers, texts}, numbers.reals.size());
  const DbaseReader reader(bytes.dbf);
  Notices notices;
  const Column again = reader.column(0, {}, notices);
  for (std::size_t i = 0; i < numbers.reals.size(); ++i)
    CHECK((again.reals[i] == numbers.reals[i] || (std::isnan(again.reals[i]) && std::isnan(numbers.reals[i]))));
  CHECK(reader.column(1, {}, notices).texts[0].size() == 202);
}

TEST_CASE("zip archives keep their entries, and damage shows") {
  const std::vector<std::uint8_t> a(100000, 'a'), b{'x', 'y'}, none;
  const auto bytes = encode_zip({{"long.txt", a}, {"dir/short.txt", b}, {"empty", none}});
  const ZipReader archive(bytes);
  REQUIRE(archive.entries().size() == 3);
  for (const auto& [entry, content] : {std::pair{0, a}, {1, b}, {2, none}}) {
    const FileContent got = archive.extract(archive.entries()[entry]);
    CHECK(std::equal(got.bytes().begin(), got.bytes().end(), content.begin(), content.end()));
  }
  auto damaged = bytes;
  damaged[45] ^= 1;
  CHECK_THROWS_AS(ZipReader(damaged).extract(ZipReader(damaged).entries()[0]), FormatError);
  CHECK_THROWS_AS(ZipReader(b), FormatError);
  auto lying = archive.entries()[1];
  lying.size = 4000000000u;
  CHECK_THROWS_WITH(archive.extract(lying), Catch::Contains("announces a size"));
}
