#include <catch2/catch.hpp>

#include "kernel/crs/wkt_crs.h"
#include "registry.h"

using namespace civic;
using test::registry;

TEST_CASE("the registry finds its rows by code") {
  const Registry fresh = Registry::load(std::string(CIVIC_ROOT) + "/inst/crs/registry.tsv.gz");
  CHECK(fresh.size() == 6456);
  CHECK(!fresh.find(1));
  CHECK(fresh.codes_near(32799, 1) == std::vector<int>{32766});
}

namespace {

// The CRS as somebody else's text states it: read from one of our spellings, without any code.
Crs without_codes(Crs crs, WktSpelling spelling) {
  crs.code.clear();
  crs.geographic_code.clear();
  return parse_crs_text(crs_text(crs, spelling), registry());
}

}  // namespace

TEST_CASE("projected rows written as .prj text are matched to themselves or a twin, and none falsely") {
  int tried = 0, matched = 0;
  const auto rows = test::rows_of_kind(CrsKind::projected);
  for (std::size_t i = 0; i < rows.size(); i += 7) {
    const int found = registry().match(without_codes(rows[i], WktSpelling::prj));
    INFO(rows[i].code << " as " << found << ": " << crs_text(rows[i], WktSpelling::prj));
    if (found) CHECK(same_meaning(*registry().find(found), rows[i]));
    matched += found != 0;
    ++tried;
  }
  INFO(matched << " of " << tried);
  CHECK(tried > 700);
  CHECK(matched >= 0.99 * tried);
}

TEST_CASE("every method is written and read in each spelling") {
  std::map<std::string, Crs> one_each;
  for (const Crs& crs : test::rows_of_kind(CrsKind::projected)) one_each.emplace(crs.method, crs);
  for (const char* method : {"Azimuthal Equidistant", "Bonne", "Equal Earth", "Equidistant Conic", "Gnomonic",
                             "Robinson", "Sinusoidal", "Mollweide", "Miller Cylindrical", "Orthographic",
                             "Stereographic", "Winkel Tripel", "Guam Projection", "Hyperbolic Cassini-Soldner"}) {
    Crs crs = *registry().find(3395);
    crs.method = method;
    crs.parameters = {
        {"latitude_of_origin", 30}, {"central_meridian", 20}, {"false_easting", 1000}, {"false_northing", 0}};
    one_each.emplace(method, crs);
  }
  for (const auto& [method, crs] : one_each)
    for (const WktSpelling spelling : {WktSpelling::prj, WktSpelling::wkt1, WktSpelling::wkt2}) {
      const Crs read = without_codes(crs, spelling);
      INFO(crs_text(crs, spelling));
      CHECK(read.method == method);
      CHECK(same_meaning(read, crs));
    }
}

TEST_CASE("rows in grads, other meridians and feet keep their meaning in each spelling") {
  for (const int code : {4821, 4901, 8441, 2263, 32040, 4326, 27200, 31370, 2154})
    for (const WktSpelling spelling : {WktSpelling::prj, WktSpelling::wkt1, WktSpelling::wkt2}) {
      const auto crs = registry().find(code);
      REQUIRE(crs);
      INFO(crs_text(*crs, spelling));
      CHECK(same_meaning(without_codes(*crs, spelling), *crs));
    }
}

TEST_CASE("well-known text in somebody else's spelling means the same") {
  const char* ogc =
      "PROJCS[\"WGS 84 / UTM zone 57S\",GEOGCS[\"WGS 84\",DATUM[\"WGS_1984\",SPHEROID[\"WGS "
      "84\",6378137,298.257223563,AUTHORITY[\"EPSG\","
      "\"7030\"]],AUTHORITY[\"EPSG\",\"6326\"]],PRIMEM[\"Greenwich\",0],UNIT[\"degree\",0.0174532925199433]],"
      "PROJECTION[\"Transverse_Mercator\"],"
      "PARAMETER[\"latitude_of_origin\",0],PARAMETER[\"central_meridian\",159],PARAMETER[\"scale_factor\",0.9996],"
      "PARAMETER[\"false_easting\","
      "500000],PARAMETER[\"false_northing\",10000000],UNIT[\"metre\",1],AXIS[\"Easting\",EAST],AXIS[\"Northing\",NORTH]"
      ",AUTHORITY[\"EPSG\",\"32757\"]]";
  const Crs read = parse_crs_text(ogc, registry());
  CHECK(read.code == "EPSG:32757");
  CHECK(same_meaning(read, *registry().find(32757)));

  // Version 2 with a datum ensemble, units left to the axes, names in the long form, and a comment of usage.
  const char* second =
      "PROJCRS[\"ETRS89-extended / LAEA Europe\",BASEGEOGCRS[\"ETRS89\",ENSEMBLE[\"European Terrestrial Reference "
      "System "
      "1989 ensemble\",MEMBER[\"European Terrestrial Reference Frame 1989\"],ELLIPSOID[\"GRS "
      "1980\",6378137,298.257222101,LENGTHUNIT[\"metre\",1]],ENSEMBLEACCURACY[0.1]],PRIMEM[\"Greenwich\",0,ANGLEUNIT["
      "\"degree\",0.0174532925199433]]],CONVERSION[\"Europe Equal Area 2001\",METHOD[\"Lambert Azimuthal Equal "
      "Area\",ID[\"EPSG\",9820]],PARAMETER[\"Latitude of natural "
      "origin\",52,ANGLEUNIT[\"degree\",0.0174532925199433],ID[\"EPSG\",8801]],PARAMETER[\"Longitude of natural "
      "origin\",10],PARAMETER[\"False easting\",4321,LENGTHUNIT[\"kilometre\",1000]],PARAMETER[\"False "
      "northing\",3210000,LENGTHUNIT[\"metre\",1]]],CS[Cartesian,2],AXIS[\"northing (Y)\",north,ORDER[1],LENGTHUNIT["
      "\"metre\",1]],AXIS[\"easting (X)\",east,ORDER[2],LENGTHUNIT[\"metre\",1]],USAGE[SCOPE[\"Statistics.\"],AREA["
      "\"Europe.\"],BBOX[24.6,-35.58,84.73,44.83]]]";
  CHECK(registry().match(parse_crs_text(second, registry())) == 3035);

  const Crs feet = parse_crs_text(
      "PROJCS(\"Saltmere "
      "local\",GEOGCS(\"GCS_WGS_1984\",DATUM(\"D_WGS_1984\",SPHEROID(\"WGS_1984\",6378137.0,298.257223563)),PRIMEM("
      "\"Greenwich\",0.0),"
      "UNIT(\"Degree\",0.0174532925199433)),PROJECTION(\"Transverse_Mercator\"),PARAMETER(\"Central_Meridian\",160.2),"
      "PARAMETER(\"Scale_Factor\",1.0),"
      "UNIT(\"Foot_US\",0.3048006096012192))",
      registry());
  CHECK(feet.unit == "US survey foot");
  CHECK(registry().match(feet) == 0);
  CHECK(feet.datum.shift);
}

TEST_CASE("short names of datums in .prj files are known") {
  auto geographic = [](const char* datum, double a, double rf) {
    return parse_crs_text("GEOGCS[\"x\",DATUM[\"" + std::string(datum) + "\",SPHEROID[\"e\"," + std::to_string(a) +
                              "," + std::to_string(rf) +
                              "]],PRIMEM[\"Greenwich\",0],UNIT[\"Degree\",0.0174532925199433]]",
                          registry());
  };
  CHECK(registry().match(geographic("D_OSGB_1936", 6377563.396, 299.3249646)) == 4277);
  CHECK(registry().match(geographic("D_ETRS_1989", 6378137, 298.257222101)) == 4258);
  CHECK(registry().match(geographic("D_RGF_1993", 6378137, 298.257222101)) == 4171);
  CHECK(registry().match(geographic("D_North_American_1927", 6378206.4, 294.9786982)) == 4267);
  CHECK(registry().match(geographic("D_Amersfoort", 6377397.155, 299.1528128)) == 4289);
  CHECK(registry().match(geographic("D_Nowhere_1900", 6377397.155, 299.1528128)) == 0);
}

TEST_CASE("compound and bound texts give their horizontal part") {
  const std::string utm = crs_text(*registry().find(32757), WktSpelling::wkt2);
  const Crs compound =
      parse_crs_text("COMPOUNDCRS[\"with heights\"," + utm + ",VERTCRS[\"h\",VDATUM[\"d\"]]]", registry());
  CHECK(same_meaning(compound, *registry().find(32757)));
  const Crs bound = parse_crs_text(
      "BOUNDCRS[SOURCECRS[" + utm + "],TARGETCRS[" + crs_text(*registry().find(4326), WktSpelling::wkt2) +
          "],ABRIDGEDTRANSFORMATION[\"t\",METHOD[\"Geocentric translations\"],PARAMETER[\"X-axis translation\",10],"
          "PARAMETER[\"Y-axis translation\",20],PARAMETER[\"Z-axis translation\",30],PARAMETER[\"Scale "
          "difference\",1.000001]]]",
      registry());
  REQUIRE(bound.datum.shift);
  CHECK((*bound.datum.shift)[1] == 20);
  CHECK((*bound.datum.shift)[6] == Approx(1).epsilon(1e-6));
}

TEST_CASE("malformed text of a CRS is refused") {
  for (const char* text :
       {"", "PROJCS", "PROJCS[", "GEOGCS[\"a\"]", "PROJCS[\"a\",GEOGCS[\"b\",DATUM[\"c\"]]]",
        "GEOGCS[\"a\",DATUM[\"b\",SPHEROID[\"c\",-1,2]]]", "VERT_CS[\"x\"]", "GEOGCS[\"a", "GEOGCS[\"a\",1e]",
        "GEOGCS[\"a\"]]",
        "GEOGCRS[\"a\",DATUM[\"b\",ELLIPSOID[\"c\",6378137,298]],CS[ellipsoidal,2],ANGLEUNIT[\"u\",0]]",
        "PROJCRS[\"a\",BASEGEOGCRS[\"b\",DATUM[\"c\",ELLIPSOID[\"d\",6378137,298]]],CS[Cartesian,2]]"})
    CHECK_THROWS_AS(parse_crs_text(text, registry()), CrsError);
  CHECK_THROWS_WITH(parse_crs_text("PROJCS[\"a\",GEOGCS[\"b\"", registry()), Catch::Contains("character"));
  CHECK_THROWS_AS(parse_crs_text(std::string(5000, '['), registry()), CrsError);
  std::string deep;
  for (int i = 0; i < 5000; ++i) deep += "A[";
  CHECK_THROWS_AS(parse_crs_text(deep, registry()), CrsError);
}
