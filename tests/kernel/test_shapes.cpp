#include <catch2/catch.hpp>

#include "kernel/base/error.h"
#include "kernel/shapes/wkb.h"
#include "support.h"

using namespace civic;

namespace {

const std::vector<std::string> texts{
    "POINT (1 2)",
    "POINT Z (1 2 3)",
    "POINT M (1 2 4)",
    "POINT ZM (1 2 3 4)",
    "POINT EMPTY",
    "LINESTRING (0 0, 1.5 -2, 3e+300 4e-300)",
    "LINESTRING EMPTY",
    "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (1 1, 1 2, 2 2, 2 1, 1 1))",
    "POLYGON Z ((0 0 1, 4 0 2, 4 4 3, 0 0 1))",
    "POLYGON EMPTY",
    "MULTIPOINT ((1 1), (2 2))",
    "MULTILINESTRING ((0 0, 1 1), (2 2, 3 3, 4 4))",
    "MULTIPOLYGON (((0 0, 1 0, 1 1, 0 0)), ((5 5, 9 5, 9 9, 5 5), (7 6, 8 6, 8 7, 7 6)))",
    "GEOMETRYCOLLECTION (POINT (1 1), LINESTRING (0 0, 1 1), POLYGON ((0 0, 1 0, 1 1, 0 0)))",
    "GEOMETRYCOLLECTION EMPTY",
};

std::string error_of(const std::string& text) {
  try {
    test::store_of({text});
  } catch (const FormatError& problem) {
    return problem.what();
  }
  return "";
}

}  // namespace

TEST_CASE("well-known text reads back to itself") {
  const StoreBuffer store = test::store_of(texts);
  for (std::size_t i = 0; i < texts.size(); ++i) CHECK(test::text_of(store.view(), static_cast<int>(i)) == texts[i]);
}

TEST_CASE("other spellings of well-known text are read") {
  const StoreBuffer store = test::store_of(
      {" point(1 2)", "MULTIPOINT (1 1, 2 2)", "POINTZ (1 2 3)", "Point Zm(1 2 3 4)", "POINT (nan -Inf)"});
  const StoreView view = store.view();
  CHECK(test::text_of(view, 0) == "POINT (1 2)");
  CHECK(test::text_of(view, 1) == "MULTIPOINT ((1 1), (2 2))");
  CHECK(test::text_of(view, 2) == "POINT Z (1 2 3)");
  CHECK(test::text_of(view, 3) == "POINT ZM (1 2 3 4)");
  CHECK(test::text_of(view, 4) == "POINT (NaN -Inf)");
}

TEST_CASE("malformed text is refused with the place") {
  CHECK(error_of("") == "the text of the shape lacks a type name at character 1, its end");
  CHECK(error_of("POINT (1 x)") == "the text of the shape lacks a number at character 10: \"x)\"");
  CHECK(error_of("POINT (1 2) 3").find("text after its end") != std::string::npos);
  CHECK(error_of("CIRCLE (1 2)").find("unknown type \"CIRCLE\"") != std::string::npos);
  CHECK(error_of("POLYGON (0 0, 1 1)").find("lacks a '('") != std::string::npos);
  CHECK(error_of("POINT (1e999 2)").find("beyond what a double holds") != std::string::npos);
}

TEST_CASE("well-known binary keeps every shape and its bytes") {
  const StoreBuffer store = test::store_of(texts);
  ShapeBuilder builder;
  std::vector<std::vector<std::uint8_t>> blobs(texts.size());
  for (std::size_t i = 0; i < texts.size(); ++i) {
    write_wkb(store.view(), static_cast<int>(i), blobs[i]);
    read_wkb(blobs[i], builder);
  }
  const StoreBuffer again = builder.take();
  for (std::size_t i = 0; i < texts.size(); ++i) {
    CHECK(test::text_of(again.view(), static_cast<int>(i)) == texts[i]);
    for (std::size_t cut = 0; cut < blobs[i].size(); ++cut) {
      ShapeBuilder scratch;
      CHECK_THROWS_AS(read_wkb(ByteSpan(blobs[i].data(), cut), scratch), FormatError);
    }
  }
}

TEST_CASE("well-known binary of either byte order and of the extended form is read") {
  const std::vector<std::uint8_t> big{0, 0, 0, 0, 1, 0x3f, 0xf0, 0, 0, 0, 0, 0, 0, 0x40, 0, 0, 0, 0, 0, 0, 0};
  const std::vector<std::uint8_t> extended{1, 1, 0,    0,    0x20, 0xe6, 0x10, 0, 0, 0, 0, 0,   0,
                                           0, 0, 0xf0, 0x3f, 0,    0,    0,    0, 0, 0, 0, 0x40};
  ShapeBuilder builder;
  read_wkb(big, builder);
  read_wkb(extended, builder);
  const StoreBuffer store = builder.take();
  CHECK(test::text_of(store.view(), 0) == "POINT (1 2)");
  CHECK(test::text_of(store.view(), 1) == "POINT (1 2)");
}

TEST_CASE("gathering keeps the shapes that rows refer to, once each, and missing rows") {
  const StoreBuffer store = test::store_of(texts);
  const std::vector<int> rows{8, -1, 12, 8, 3};
  const ShapeRows layer{store.view(), rows};
  std::vector<int> handles;
  const StoreBuffer out = gather({&layer, 1}, handles, -1);
  CHECK(handles == std::vector<int>{1, -1, 2, 1, 3});
  CHECK(out.types.size() == 3);
  CHECK(test::text_of(out.view(), 0) == texts[7]);
  CHECK(test::text_of(out.view(), 1) == texts[11]);
  CHECK(test::text_of(out.view(), 2) == texts[2]);
}

TEST_CASE("concatenating stores keeps all shapes in order") {
  const StoreBuffer a = test::store_of({texts[0], texts[12]}), b = test::store_of({texts[8]}), none;
  const std::vector<StoreView> views{a.view(), none.view(), b.view()};
  StoreBuffer out(count_all(views));
  concatenate(views, out.target());
  CHECK(test::text_of(out.view(), 1) == texts[12]);
  CHECK(test::text_of(out.view(), 2) == texts[8]);
  CHECK(out.z.size() == out.x.size());
}

TEST_CASE("equal shapes share a rank, others do not") {
  const StoreBuffer store =
      test::store_of({"POINT (2 1)", "POINT (1 9)", "POINT (2 1)", "MULTIPOINT ((2 1))", "LINESTRING (0 0, 1 1)",
                      "LINESTRING (0 0, 1 1, 2 2)", "POLYGON ((0 0, 1 1, 2 0, 0 0), (3 3, 4 4, 5 3, 3 3))",
                      "MULTIPOLYGON (((0 0, 1 1, 2 0, 0 0)), ((3 3, 4 4, 5 3, 3 3)))"});
  const std::vector<int> handles{1, 2, 3, 4, 5, 6, 7, 8};
  const auto ranks = content_ranks({store.view(), handles});
  CHECK(ranks[0] == ranks[2]);
  CHECK(ranks[1] < ranks[0]);
  CHECK(ranks[4] < ranks[5]);
  CHECK(*std::max_element(ranks.begin(), ranks.end()) == 7);
}

TEST_CASE("keys are equal where shapes are, in whatever stores") {
  std::vector<std::string> texts{"POINT (2 1)",
                                 "POINT (1 2)",
                                 "POINT Z (2 1 0)",
                                 "POINT M (2 1 0)",
                                 "POINT EMPTY",
                                 "MULTIPOINT ((2 1))",
                                 "LINESTRING (2 1, 2 1)",
                                 "MULTILINESTRING ((0 0, 1 1), (2 2, 3 3))",
                                 "MULTILINESTRING ((0 0, 1 1, 2 2, 3 3))",
                                 "POLYGON ((0 0, 9 0, 9 9, 0 0), (5 1, 6 1, 6 2, 5 1))",
                                 "MULTIPOLYGON (((0 0, 9 0, 9 9, 0 0)), ((5 1, 6 1, 6 2, 5 1)))"};
  const StoreBuffer a = test::store_of(texts);
  std::reverse(texts.begin(), texts.end());
  const StoreBuffer b = test::store_of(texts);
  const int n = static_cast<int>(texts.size());
  for (int i = 0; i < n; ++i)
    for (int j = 0; j < n; ++j) CHECK((content_key(a.view(), i) == content_key(b.view(), j)) == (i == n - 1 - j));
  const StoreBuffer zeros = test::store_of({"POINT (0 0)", "POINT (-0 -0)"});
  CHECK(content_key(zeros.view(), 0) == content_key(zeros.view(), 1));
}

TEST_CASE("a store whose columns do not fit is refused") {
  const StoreBuffer good = test::store_of(
      {"POLYGON ((0 0, 9 0, 9 9, 0 0), (5 1, 6 1, 6 2, 5 1))", "POINT (1 2)", "MULTIPOINT ((1 1), (2 2))"});
  CHECK_NOTHROW(check_store(good.view()));
  CHECK_NOTHROW(check_store(StoreBuffer().view()));
  auto refuses = [&](auto&& damage) {
    StoreBuffer bad = good;
    damage(bad);
    CHECK_THROWS_AS(check_store(bad.view()), FormatError);
  };
  refuses([](StoreBuffer& s) { s.types[0] = 9; });
  refuses([](StoreBuffer& s) { s.types[1] = 1001; });
  refuses([](StoreBuffer& s) { s.part_types[0] = 2; });
  refuses([](StoreBuffer& s) { s.shape_parts[1] = 7; });
  refuses([](StoreBuffer& s) { s.part_rings[1] = -1; });
  refuses([](StoreBuffer& s) { s.ring_vertices[1] = 1000; });
  refuses([](StoreBuffer& s) { std::swap(s.ring_vertices[1], s.ring_vertices[2]); });
  refuses([](StoreBuffer& s) { s.y.pop_back(); });
  refuses([](StoreBuffer& s) { s.z.resize(3); });
  refuses([](StoreBuffer& s) { s.boxes.pop_back(); });
  refuses([](StoreBuffer& s) { s.ring_vertices.clear(); });
}

TEST_CASE("rings are turned so that shells run counter-clockwise") {
  StoreBuffer store = test::store_of({"POLYGON ((0 0, 0 9, 9 9, 9 0, 0 0), (1 1, 2 1, 2 2, 1 1))"});
  orient_rings(store.target(), {0, 1});
  CHECK(test::text_of(store.view(), 0) == "POLYGON ((0 0, 9 0, 9 9, 0 9, 0 0), (1 1, 2 2, 2 1, 1 1))");
}
