#include <catch2/catch.hpp>
#include <map>

#include "kernel/base/error.h"
#include "reading.h"

using namespace civic;

namespace {

GeojsonLayer read(const std::string& text, const GeojsonQuery& query = {}) { return test::read_geojson(text, query); }

std::string feature(const std::string& geometry, const std::string& properties = "{}") {
  return "{\"type\":\"Feature\",\"geometry\":" + geometry + ",\"properties\":" + properties + "}";
}

std::string collection(const std::vector<std::string>& features) {
  std::string text = "{\"type\":\"FeatureCollection\",\"features\":[";
  for (std::size_t i = 0; i < features.size(); ++i) text += (i ? "," : "") + features[i];
  return text + "]}";
}

const std::string point = "{\"type\":\"Point\",\"coordinates\":[1,2]}";

std::string error_of(const std::string& text) {
  try {
    read(text);
  } catch (const FormatError& problem) {
    return problem.what();
  }
  return "";
}

}  // namespace

TEST_CASE("every type of geometry is read, with members in any order") {
  const GeojsonLayer layer = read(collection({
      feature("{\"coordinates\":[1,2,3],\"type\":\"Point\"}"),
      feature("null"),
      feature("{\"type\":\"Polygon\",\"coordinates\":[[[0,0],[0,1],[1,1],[0,0]]]}"),
      feature("{\"type\":\"MultiLineString\",\"coordinates\":[[[0,0],[1,1]],[[2,2],[3,3]]]}"),
      feature("{\"type\":\"GeometryCollection\",\"geometries\":[" + point +
              ",{\"type\":\"MultiPoint\",\"coordinates\":[[5,6],[7,8]]}]}"),
      feature("{\"type\":\"Point\",\"coordinates\":[]}"),
  }));
  const StoreView view = layer.store.view();
  CHECK(layer.handles == std::vector<int>{1, -1, 2, 3, 4, 5});
  CHECK(test::text_of(view, 0) == "POINT Z (1 2 3)");
  CHECK(test::text_of(view, 1) == "POLYGON ((0 0, 1 1, 0 1, 0 0))");
  CHECK(test::text_of(view, 2) == "MULTILINESTRING ((0 0, 1 1), (2 2, 3 3))");
  CHECK(test::text_of(view, 3) == "GEOMETRYCOLLECTION (POINT (1 2), POINT (5 6), POINT (7 8))");
  CHECK(test::text_of(view, 4) == "POINT EMPTY");
  CHECK(test::text_of(read(point).store.view(), 0) == "POINT (1 2)");
  CHECK(test::text_of(read(feature(point)).store.view(), 0) == "POINT (1 2)");
}

TEST_CASE("properties get the type that holds all their values") {
  const GeojsonLayer layer = read(collection({
      feature(point,
              "{\"whole\":1,\"real\":1,\"yes\":true,\"text\":\"a\\u00e9\",\"mixed\":1.5,\"long\":1,\"nested\":{\"a\":["
              "1]},\"late\":null}"),
      feature(point,
              "{\"whole\":-7,\"real\":2.25,\"yes\":null,\"mixed\":\"b\",\"long\":12345678901234567890,\"nested\":null,"
              "\"extra\":3}"),
  }));
  std::map<std::string, const Column*> by_name;
  for (const Column& column : layer.columns) by_name[column.name] = &column;
  CHECK(by_name["whole"]->integers == std::vector<int>{1, -7});
  CHECK(by_name["real"]->reals == std::vector<double>{1, 2.25});
  CHECK(by_name["yes"]->integers == std::vector<int>{1, missing_integer});
  CHECK((by_name["text"]->texts[0] == "a\xc3\xa9" && by_name["text"]->texts.missing(1)));
  CHECK((by_name["mixed"]->texts[0] == "1.5" && by_name["mixed"]->texts[1] == "b"));
  CHECK((by_name["long"]->texts[0] == "1" && by_name["long"]->texts[1] == "12345678901234567890"));
  CHECK(by_name["nested"]->texts[0] == "{\"a\":[1]}");
  CHECK(by_name["extra"]->integers == std::vector<int>{missing_integer, 3});
  CHECK(by_name["late"]->integers.size() == 2);
  REQUIRE(layer.notices.all().size() == 2);
  CHECK(layer.notices.all()[0].first == "mixed");
  CHECK(layer.notices.all()[1].first == "long");
}

TEST_CASE("what is not GeoJSON is refused with the feature, what is not JSON with the byte") {
  CHECK(error_of("").find("empty") != std::string::npos);
  CHECK(error_of("hello").find("not JSON") != std::string::npos);
  CHECK(error_of("[1,2]").find("JSON but not GeoJSON") != std::string::npos);
  CHECK(error_of("{\"a\":1}").find("a member is missing") != std::string::npos);
  CHECK(error_of("{\"type\":\"Ball\"}").find("\"Ball\" is no type of geometry") != std::string::npos);
  CHECK(error_of("{\"type\":\"FeatureCollection\"}").find("no member \"features\"") != std::string::npos);
  CHECK(
      error_of(collection({feature(point), feature("{\"type\":\"Point\",\"coordinates\":[1]}")})).find("(feature 2)") !=
      std::string::npos);
  CHECK(error_of(collection({feature("{\"type\":\"Point\",\"coordinates\":[1,\"x\"]}")}))
            .find("wrong type (feature 1)") != std::string::npos);
  CHECK(error_of(collection({feature("{\"type\":\"Point\",\"coordinates\":[NaN,1]}")})).find("feature 1") !=
        std::string::npos);
  const std::string whole = collection({feature(point, "{\"a\":1}")});
  for (std::size_t cut = 0; cut < whole.size(); ++cut) CHECK_FALSE(error_of(whole.substr(0, cut)).empty());
  std::string deep = "{\"type\":\"Point\",\"coordinates\":";
  CHECK_FALSE(error_of(deep + std::string(100000, '[')).empty());
}

TEST_CASE("rings are closed, and the old crs member and ids are kept") {
  const GeojsonLayer layer = read(
      "{\"type\":\"FeatureCollection\",\"crs\":{\"type\":\"name\",\"properties\":{\"name\":\"urn:ogc:def:crs:EPSG::"
      "32757\"}},\"features\":["
      "{\"type\":\"Feature\",\"id\":\"w7\",\"properties\":null,\"geometry\":{\"type\":\"Polygon\",\"coordinates\":[[[0,"
      "0],[1,0],[1,1]]]}}]}");
  CHECK(test::text_of(layer.store.view(), 0) == "POLYGON ((0 0, 1 0, 1 1, 0 0))");
  CHECK(layer.crs_name == "urn:ogc:def:crs:EPSG::32757");
  CHECK((layer.columns.at(0).name == "id" && layer.columns[0].texts[0] == "w7"));
  CHECK(layer.notices.all().at(0).what == "polygons had rings that were not closed");
}

TEST_CASE("what is written reads back to the last bit, with the right-hand rule") {
  const std::vector<std::string> texts{"POINT (0.1 -1e-300)",
                                       "MULTIPOINT ((1 2), (3 4))",
                                       "LINESTRING (0 0, 1.1 2.2)",
                                       "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 2 4, 4 4, 4 2, 2 2))",
                                       "POLYGON Z ((0 0 1, 4 0 2, 4 4 3, 0 0 1))",
                                       "MULTIPOLYGON (((0 0, 1 0, 1 1, 0 0)), ((5 5, 9 5, 9 9, 5 5)))",
                                       "POLYGON EMPTY",
                                       "MULTILINESTRING ((0 0, 1 1), (2 2, 3 3))"};
  const StoreBuffer store = test::store_of(texts);
  auto handles = test::all_handles(store.view());
  handles.push_back(-1);
  Column label;
  label.name = "say \"so\"";
  label.type = ColumnType::text;
  for (std::size_t i = 0; i < handles.size(); ++i) label.texts.push("line\n\t\\" + std::to_string(i));
  Notices notices;
  const GeojsonLayer again = read(encode_geojson({store.view(), handles}, {label}, {}, notices));
  for (std::size_t i = 0; i < texts.size(); ++i)
    CHECK(test::text_of(again.store.view(), static_cast<int>(i)) == texts[i]);
  CHECK(again.handles.back() == -1);
  CHECK((again.columns.at(0).name == label.name && again.columns[0].texts[3] == "line\n\t\\3"));

  const StoreBuffer clockwise = test::store_of({"POLYGON ((0 0, 0 1, 1 1, 0 0))", "POINT M (1 2 3)"});
  const std::string out = encode_geojson({clockwise.view(), test::all_handles(clockwise.view())}, {},
                                         {2, "", GeojsonForm::collection}, notices);
  CHECK(out.find("[[[0,0],[1,1],[0,1],[0,0]]]") != std::string::npos);
  CHECK(notices.all().at(0).what == "shapes lost their M values, which GeoJSON cannot hold");
}

TEST_CASE("features one a line and in RFC 8142 sequences are read, and damage is named or skipped") {
  const std::string a = feature(point, "{\"n\":1}"), b = feature("null", "{\"n\":2}"),
                    broken = "{\"type\":\"Feature\",";
  for (const std::string& text :
       {a + "\n" + b + "\n", a + "\r\n\n" + b, "\x1e" + a + "\n\x1e" + b + "\n", "\n\x1e" + a + "\x1e" + b}) {
    const GeojsonLayer layer = read(text);
    CHECK(layer.handles == std::vector<int>{1, -1});
    CHECK(layer.columns.at(0).integers == std::vector<int>{1, 2});
    CHECK(layer.features == 2);
  }
  CHECK(error_of(a + "\n" + broken + "\n" + b + "\n").find("feature 2") != std::string::npos);
  GeojsonQuery skip;
  skip.skip_damaged = true;
  const GeojsonLayer rest = read(a + "\n" + broken + "\n" + b + "\n", skip);
  CHECK((rest.handles == std::vector<int>{1, -1} && rest.rows == std::vector<int>{1, 3}));
  CHECK(test::noted(rest.notices, "left out"));
}

TEST_CASE("what is not asked for is passed over") {
  const std::string text =
      collection({feature(point, "{\"a\":1,\"b\":\"x\"}"),
                  feature("{\"type\":\"Point\",\"coordinates\":[5,5,9]}", "{\"a\":2,\"c\":[1]}"),
                  feature("{\"type\":\"LineString\",\"coordinates\":[[4,4],[9,9]]}", "{\"a\":3,\"b\":\"z\"}"),
                  feature("null", "{\"a\":4}")});
  const auto names = [](const std::string& text) {
    std::vector<std::string> out;
    for (const Column& column : read(text).columns) out.push_back(column.name);
    return out;
  };
  CHECK(names(text) == std::vector<std::string>{"a", "b", "c"});

  GeojsonQuery query;
  query.columns = {"b"};
  query.within = Box{3, 3, 6, 6};
  const GeojsonLayer near = read(text, query);
  REQUIRE(near.columns.size() == 1);
  CHECK((near.columns[0].texts.missing(0) && near.columns[0].texts[1] == "z"));
  CHECK(test::text_of(near.store.view(), 0) == "POINT Z (5 5 9)");
  CHECK(test::text_of(near.store.view(), 1) == "LINESTRING (4 4, 9 9)");
  CHECK((near.store.types.size() == 2 && near.rows == std::vector<int>{2, 3} && near.features == 4));

  const auto padded = test::padded(text);
  const GeojsonTable table = read_geojson_table(padded.bytes(), std::vector<std::string>{"a"}, false);
  CHECK((table.columns.size() == 1 && table.columns[0].integers == std::vector<int>{1, 2, 3, 4}));
  CHECK((table.geometries[3].size == 0 && text.substr(table.geometries[0].from, table.geometries[0].size) == point));
  const GeometryPlace some[] = {table.geometries[2], table.geometries[3]};
  const int features[] = {3, 4};
  const GeojsonShapes shapes = read_geojson_shapes(padded.bytes(), some, features, {}, -1, false);
  CHECK((shapes.handles == std::vector<int>{1, -1} && shapes.kept == std::vector<int>{0, 1}));
}

TEST_CASE("geometries of many features are decoded on all threads, in their order") {
  std::string text;
  for (int i = 0; i < 5000; ++i) {
    const std::string n = std::to_string(i);
    text +=
        feature(i % 7 == 3 ? "null" : "{\"type\":\"Point\",\"coordinates\":[" + n + ",1]}", "{\"n\":" + n + "}") + "\n";
  }
  const GeojsonLayer all = read(text);
  REQUIRE(all.handles.size() == 5000);
  for (int i = 0; i < 5000; ++i) {
    const int handle = all.handles[static_cast<std::size_t>(i)];
    CHECK((handle == -1) == (i % 7 == 3));
    if (handle > 0) CHECK(all.store.x[static_cast<std::size_t>(handle - 1)] == i);
  }
  GeojsonQuery window;
  window.within = Box{100, 0, 200, 2};
  const GeojsonLayer near = read(text, window);
  CHECK(near.columns.at(0).integers.size() == near.handles.size());
  CHECK((near.columns[0].integers.front() == 100 && near.columns[0].integers.back() == 200));
}

TEST_CASE("ids are a column where no property has their name") {
  const std::string with_both = "{\"type\":\"Feature\",\"id\":7,\"geometry\":null,\"properties\":{\"id\":\"p\"}}";
  CHECK(read(with_both).columns.at(0).texts[0] == "p");
  const std::string with_id = "{\"type\":\"Feature\",\"id\":7,\"geometry\":null,\"properties\":{\"a\":1}}";
  CHECK((read(with_id).columns.at(0).name == "id" && read(with_id).columns.at(1).name == "a"));
  GeojsonQuery query;
  query.columns = {"id"};
  CHECK(read(with_id, query).columns.at(0).integers == std::vector<int>{7});
  CHECK(read(with_both, query).columns.at(0).texts[0] == "p");
}

TEST_CASE("sequences are written as they are read") {
  const StoreBuffer store = test::store_of({"POINT (1 2)", "POINT (3 4)"});
  Notices notices;
  const auto rows = test::all_handles(store.view());
  const std::string lines = encode_geojson({store.view(), rows}, {}, {-1, "", GeojsonForm::lines}, notices),
                    sequence = encode_geojson({store.view(), rows}, {}, {-1, "", GeojsonForm::sequence}, notices);
  CHECK(std::count(lines.begin(), lines.end(), '\n') == 2);
  CHECK(std::count(sequence.begin(), sequence.end(), '\x1e') == 2);
  CHECK((read(lines).handles.size() == 2 && read(sequence).handles.size() == 2));
}

TEST_CASE("a line that is cut takes no other row with it") {
  auto feature = [](int a) {
    const std::string n = std::to_string(a);
    return "{\"type\":\"Feature\",\"properties\":{\"a\":" + n + "},\"geometry\":{\"type\":\"Point\",\"coordinates\":[" +
           n + "," + n + "]}}";
  };
  GeojsonQuery query;
  query.skip_damaged = true;
  const std::string damaged[] = {"{\"type\":\"Feat", feature(9).substr(0, 60), feature(9) + " x", "[]",
                                 "{\"type\":\"Feature\",\"properties\":{\"a\":9},\"geometry\":{\"type\":\"Point\"}}"};
  for (const std::string& bad : damaged)
    for (int place = 1; place < 4; ++place) {
      std::string text;
      for (int a = 1; a <= 3; ++a) {
        if (place == a - 1) text += bad + "\n";
        text += feature(a) + "\n";
      }
      if (place == 3) text += bad + "\n";
      const GeojsonLayer layer = test::read_geojson(text, query);
      REQUIRE(layer.columns.size() == 1);
      CHECK(layer.columns[0].integers == std::vector<int>{1, 2, 3});
      for (int row = 0; row < 3; ++row) {
        const std::string n = std::to_string(row + 1);
        CHECK(test::text_of(layer.store.view(), layer.handles[row] - 1) == "POINT (" + n + " " + n + ")");
      }
    }
}

TEST_CASE("a property named twice has one value a row") {
  auto feature = [](const std::string& properties) {
    return "{\"type\":\"Feature\",\"properties\":{" + properties +
           "},\"geometry\":{\"type\":\"Point\",\"coordinates\":[1,2]}}";
  };
  const GeojsonLayer layer =
      test::read_geojson("{\"type\":\"FeatureCollection\",\"features\":[" + feature("\"a\":100,\"a\":1") + "," +
                         feature("\"a\":20,\"b\":5,\"a\":2") + "," + feature("\"a\":3,\"a\":null") + "]}");
  CHECK(layer.columns[0].integers == std::vector<int>{1, 2, missing_integer});
  CHECK(layer.columns[1].integers == std::vector<int>{missing_integer, 5, missing_integer});
  CHECK(test::noted(layer.notices, "twice", 3));
}
