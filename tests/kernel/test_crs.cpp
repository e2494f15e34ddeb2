#include <catch2/catch.hpp>
#include <chrono>
#include <map>

#include "kernel/crs/registry.h"
#include "kernel/crs/transform.h"
#include "kernel/crs/wkt_crs.h"
#include "kernel/error.h"
#include "support.h"

using namespace civic;

namespace {

const Registry& registry() {
  static const Registry instance = Registry::load(std::string(CIVIC_ROOT) + "/inst/crs/registry.tsv.gz");
  return instance;
}

constexpr double degree = M_PI / 180;

}  // namespace

TEST_CASE("projections agree with the reference vectors both ways") {
  std::map<std::string, double> worst;
  int rows = 0;
  for (const auto& row : test::csv_rows("projection_vectors.csv")) {
    const auto crs = registry().find(std::stoi(row[0]));
    REQUIRE(crs);
    const auto projection = make_projection(*crs);
    const double lon = (std::stod(row[2]) - crs->meridian_degrees) * degree, lat = std::stod(row[3]) * degree;
    const double x = std::stod(row[4]), y = std::stod(row[5]);
    double e = lon, n = lat, back_lon = x, back_lat = y;
    projection->forward(&e, &n, 1);
    projection->inverse(&back_lon, &back_lat, 1);
    const double forward = std::hypot(e - x, n - y) * crs->unit_size;
    const double inverse =
        std::hypot(std::remainder(back_lon - lon, 2 * M_PI) * std::cos(lat), back_lat - lat) * 6378137;
    INFO(row[0] << " " << row[1] << " at " << row[2] << ", " << row[3]);
    CHECK(forward < 1e-6);
    CHECK(inverse < 1e-6);
    worst[row[1]] = std::max({worst[row[1]], forward, inverse});
    ++rows;
  }
  CHECK(rows > 500);
  CHECK(worst.size() >= 8);
}

TEST_CASE("datum shifts agree with the reference vectors") {
  int tested = 0;
  for (const auto& row : test::csv_rows("datum_vectors.csv")) {
    const auto from = registry().find(std::stoi(row[0])), to = registry().find(std::stoi(row[1]));
    if (!from || !to || !from->datum.shift || !to->datum.shift || from->datum.wants_grid || to->datum.wants_grid)
      continue;
    double lon = (std::stod(row[2]) + from->meridian_degrees) * degree, lat = std::stod(row[3]) * degree,
           h = std::stod(row[4]);
    DatumStep(from->datum, to->datum).apply(&lon, &lat, &h, 1);
    INFO(row[0] << " to " << row[1] << " at " << row[2] << ", " << row[3]);
    const double expected_lon = (std::stod(row[5]) + to->meridian_degrees) * degree,
                 expected_lat = std::stod(row[6]) * degree;
    CHECK(std::hypot((lon - expected_lon) * std::cos(lat), lat - expected_lat) * 6378137 < 1e-6);
    CHECK(std::fabs(h - std::stod(row[7])) < 1e-5);
    ++tested;
  }
  CHECK(tested > 40);
}

TEST_CASE("transforms there and back return to where they started") {
  const Crs wgs84 = *registry().find(4326);
  for (int code : {32757, 27700, 31370, 3857, 2154, 31467, 3395}) {
    const Crs other = *registry().find(code);
    const double lon0 = (other.area->west + other.area->east) / 2, lat0 = (other.area->south + other.area->north) / 2;
    std::vector<double> x{lon0, lon0 + 0.3, lon0 - 0.2}, y{lat0, lat0 + 0.1, lat0 - 0.4};
    const auto x0 = x, y0 = y;
    Transform(wgs84, other).apply(x.data(), y.data(), x.size());
    Transform(other, wgs84).apply(x.data(), y.data(), x.size());
    for (std::size_t i = 0; i < x.size(); ++i) {
      INFO(code);
      CHECK(std::fabs(x[i] - x0[i]) < 2e-8);  // heights are not kept, which costs up to a millimetre
      CHECK(std::fabs(y[i] - y0[i]) < 2e-8);
    }
  }
}

TEST_CASE("what a method cannot do is refused by name") {
  const Crs wgs84 = *registry().find(4326);
  CHECK_THROWS_WITH(Transform(wgs84, *registry().find(3035)), Catch::Contains("Lambert Azimuthal Equal Area"));
  Crs unknown_datum = *registry().find(4326);
  unknown_datum.datum.name = "Elsewhere";
  unknown_datum.datum.shift.reset();
  CHECK_THROWS_WITH(Transform(wgs84, unknown_datum), Catch::Contains("no published shift"));
  double x = 120, y = 10;  // a quarter of the globe from the central meridian
  Transform(wgs84, *registry().find(32631)).apply(&x, &y, 1);
  CHECK((std::isnan(x) && std::isnan(y)));
}

TEST_CASE("the registry loads in a few milliseconds") {
  const auto start = std::chrono::steady_clock::now();
  const Registry fresh = Registry::load(std::string(CIVIC_ROOT) + "/inst/crs/registry.tsv.gz");
  const std::chrono::duration<double, std::milli> took = std::chrono::steady_clock::now() - start;
  CHECK(fresh.size() == 6148);
  CHECK(took.count() < 200);  // an order above what it takes without sanitizers
  CHECK(!fresh.find(1));
  CHECK(fresh.codes_near(32799, 1) == std::vector<int>{32766});
}

TEST_CASE("written .prj text is matched back to a row of the same meaning") {
  int projected = 0, matched = 0;
  for (int code : {32757, 32633, 27700, 2154, 3857, 31370, 2263, 3395, 4326, 4269, 28355, 2193, 31467, 3111, 26918}) {
    const Crs crs = *registry().find(code);
    const Crs read = parse_crs_text(prj_text(crs), registry());
    INFO(prj_text(crs));
    ++projected;
    const int found = registry().match(read);
    matched += found != 0 && same_meaning(*registry().find(found), crs);
    CHECK(same_meaning(read, crs));
  }
  CHECK(matched == projected);
}

TEST_CASE("well-known text in either spelling means the same") {
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
  const Crs feet = parse_crs_text(
      "PROJCS(\"Saltmere "
      "local\",GEOGCS(\"GCS_WGS_1984\",DATUM(\"D_WGS_1984\",SPHEROID(\"WGS_1984\",6378137.0,298.257223563)),PRIMEM("
      "\"Greenwich\",0.0),"
      "UNIT(\"Degree\",0.0174532925199433)),PROJECTION(\"Transverse_Mercator\"),PARAMETER(\"Central_Meridian\",160.2),"
      "PARAMETER(\"Scale_Factor\",1.0),"
      "UNIT(\"Foot_US\",0.3048006096012192))",
      registry());
  CHECK(feet.unit_size == Approx(0.3048006096012192));
  CHECK(registry().match(feet) == 0);
  CHECK(feet.datum.shift);
}

TEST_CASE("malformed text of a CRS is refused") {
  for (const char* text : {"", "PROJCS", "PROJCS[", "GEOGCS[\"a\"]", "PROJCS[\"a\",GEOGCS[\"b\",DATUM[\"c\"]]]",
                           "GEOGCS[\"a\",DATUM[\"b\",SPHEROID[\"c\",-1,2]]]", "VERT_CS[\"x\"]", "GEOGCS[\"a",
                           "GEOGCS[\"a\",1e]", "GEOGCS[\"a\"]]"})
    CHECK_THROWS_AS(parse_crs_text(text, registry()), CrsError);
  CHECK_THROWS_AS(parse_crs_text(std::string(5000, '['), registry()), CrsError);
  std::string deep;
  for (int i = 0; i < 5000; ++i) deep += "A[";
  CHECK_THROWS_AS(parse_crs_text(deep, registry()), CrsError);
}

namespace {

// Points over an area of use: corners, middles of edges and centre, a little inside.
std::vector<std::pair<double, double>> points_over(const AreaOfUse& area) {
  const double east = area.east < area.west ? area.east + 360 : area.east;
  std::vector<std::pair<double, double>> points;
  for (double u : {0.02, 0.5, 0.98})
    for (double v : {0.02, 0.5, 0.98})
      points.emplace_back(area.west + u * (east - area.west), area.south + v * (area.north - area.south));
  return points;
}

}  // namespace

namespace {

std::vector<Crs> projected_rows() {
  std::vector<Crs> rows;
  for (int code = 2000; code < 33000; ++code) {
    try {
      if (auto crs = registry().find(code); crs && crs->kind == CrsKind::projected) rows.push_back(*crs);
    } catch (const CrsError&) {  // a compound row whose horizontal part the registry lacks
    }
  }
  return rows;
}

}  // namespace

TEST_CASE("every projected row whose method is available returns from forward and inverse") {
  int rows = 0;
  std::map<std::string, double> worst;
  for (const Crs& crs : projected_rows()) {
    std::unique_ptr<Projection> projection;
    try {
      projection = make_projection(crs);
    } catch (const CrsError&) {
      continue;
    }
    ++rows;
    for (auto [lon, lat] : points_over(*crs.area)) {
      double x = (lon - crs.meridian_degrees) * degree, y = lat * degree;
      projection->forward(&x, &y, 1);
      if (std::isnan(x)) continue;  // a world-wide area reaches beyond the domain
      projection->inverse(&x, &y, 1);
      const double off =
          std::hypot(std::remainder(x - (lon - crs.meridian_degrees) * degree, 2 * M_PI) * std::cos(lat * degree),
                     y - lat * degree) *
          6378137;
      worst[crs.method] = std::max(worst[crs.method], off);
    }
  }
  for (const auto& [method, off] : worst) {
    INFO(method);
    CHECK(off < 1e-6);
  }
  CHECK(rows > 4500);
}

TEST_CASE("projected rows written as .prj text are matched to a row of the same meaning") {
  int tried = 0, matched = 0;
  const auto rows = projected_rows();
  for (std::size_t i = 0; i < rows.size(); i += 60) {
    const int found = registry().match(parse_crs_text(prj_text(rows[i]), registry()));
    INFO(rows[i].code << " as " << found << ": " << prj_text(rows[i]));
    if (found) CHECK(same_meaning(*registry().find(found), rows[i]));
    matched += found != 0;
    ++tried;
  }
  INFO(matched << " of " << tried);
  CHECK(matched >= 0.9 * tried);
}
