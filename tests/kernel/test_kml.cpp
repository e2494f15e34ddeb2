#include <catch2/catch.hpp>

#include "kernel/base/error.h"
#include "kernel/formats/kml.h"
#include "reading.h"

using namespace civic;

namespace {

std::string read(const std::string& element) {
  ShapeBuilder builder;
  read_kml_geometry(element, builder);
  const StoreBuffer store = builder.take();
  return test::text_of(store.view(), 0);
}

std::string ring(const std::string& border, const std::string& coordinates) {
  return "<" + border + "><LinearRing><coordinates>" + coordinates + "</coordinates></LinearRing></" + border + ">";
}

}  // namespace

TEST_CASE("KML geometry of every element is read") {
  CHECK(read("<Point><coordinates>160.2,-47.4</coordinates></Point>") == "POINT (160.2 -47.4)");
  CHECK(read("<kml:Point><kml:coordinates>\n 1 , 2 </kml:coordinates></kml:Point>") == "POINT (1 2)");
  CHECK(read("<LineString><tessellate>1</tessellate><coordinates>1,2 3,4\n\t5,6</coordinates></LineString>") ==
        "LINESTRING (1 2, 3 4, 5 6)");
  CHECK(read("<LinearRing><coordinates>0,0 1,0 1,1 0,0</coordinates></LinearRing>") ==
        "LINESTRING (0 0, 1 0, 1 1, 0 0)");
  CHECK(read("<Polygon>" + ring("outerBoundaryIs", "0,0 9,0 9,9 0,0") + ring("innerBoundaryIs", "1,1 2,1 2,2") +
             "</Polygon>") == "POLYGON ((0 0, 9 0, 9 9, 0 0), (1 1, 2 1, 2 2, 1 1))");
  CHECK(read("<MultiGeometry><Point><coordinates>1,2</coordinates></Point><Point><coordinates>3,4</coordinates></"
             "Point></MultiGeometry>") == "MULTIPOINT ((1 2), (3 4))");
  CHECK(read("<MultiGeometry><Point><coordinates>1,2</coordinates></Point><LineString><coordinates>3,4 "
             "5,6</coordinates></LineString></MultiGeometry>") ==
        "GEOMETRYCOLLECTION (POINT (1 2), LINESTRING (3 4, 5 6))");
  CHECK(read("<MultiGeometry/>") == "GEOMETRYCOLLECTION EMPTY");
  CHECK(read("<Point><!-- <coordinates>9,9</coordinates> --><coordinates><![CDATA[1,2]]></coordinates></Point>") ==
        "POINT (1 2)");
}

TEST_CASE("altitudes are kept unless they are zeros that stand for nothing") {
  CHECK(read("<Point><coordinates>1,2,0</coordinates></Point>") == "POINT (1 2)");
  CHECK(read("<Point><coordinates>1,2,7</coordinates></Point>") == "POINT Z (1 2 7)");
  CHECK(read("<Point><altitudeMode>absolute</altitudeMode><coordinates>1,2,0</coordinates></Point>") ==
        "POINT Z (1 2 0)");
  CHECK(read("<Point><altitudeMode>clampToGround</altitudeMode><coordinates>1,2,0</coordinates></Point>") ==
        "POINT (1 2)");
}

TEST_CASE("what is no KML geometry is refused") {
  CHECK_THROWS_WITH(read("<Point><coordinates>1,x</coordinates></Point>"), Catch::Contains("no number: \"x\""));
  CHECK_THROWS_WITH(read("<Point><coordinates>1</coordinates></Point>"), Catch::Contains("fewer than two"));
  CHECK_THROWS_WITH(read("<Point><coordinates>1,2 3,4</coordinates></Point>"), Catch::Contains("several positions"));
  CHECK_THROWS_WITH(read("<Point><coordinates>1,2</coordinates><coordinates>3,4</coordinates></Point>"),
                    Catch::Contains("coordinates twice"));
  CHECK(read("<x><Point><coordinates>1,2</coordinates></Point><Point><coordinates>3,4</coordinates></Point></x>") ==
        "MULTIPOINT ((1 2), (3 4))");
  CHECK_THROWS_WITH(read("<Model/>"), Catch::Contains("Model"));
  CHECK_THROWS_WITH(read("<Point><coordinates>1,2"), Catch::Contains("none of") || Catch::Contains("cut off"));
}

TEST_CASE("a document is written with its texts escaped") {
  const StoreBuffer store = test::store_of({"POINT Z (1 2 3)", "MULTIPOLYGON (((0 0, 1 0, 1 1, 0 0)))"});
  Column name;
  name.name = "name";
  name.type = ColumnType::text;
  name.texts.push("a <b> & \"c\"\x01");
  name.texts.push_missing();
  Notices notices;
  const std::string text = encode_kml({store.view(), test::all_handles(store.view())}, {name}, "rooms", -1, notices);
  CHECK(text.find("<name>a &lt;b&gt; &amp; &quot;c&quot;</name>") != std::string::npos);
  CHECK(text.find("<SimpleField type=\"string\" name=\"name\">") != std::string::npos);
  const std::size_t start = text.find("<MultiGeometry>");
  CHECK(read(text.substr(start, text.find("</Placemark>", start) - start)) == "MULTIPOLYGON (((0 0, 1 0, 1 1, 0 0)))");
}
