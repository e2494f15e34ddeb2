#include <catch2/catch.hpp>
#include <iostream>

#include "registry.h"

using namespace civic;
using test::registry;

namespace {

struct Miss {
  double forward = 0, inverse = 0;
};

// How far a projection of (lon, lat), degrees from Greenwich, is from (x, y), in metres, both ways.
Miss miss_at(const Crs& crs, double lon, double lat, double x, double y) {
  const auto projection = make_projection(crs);
  const double lon0 = (lon - crs.meridian_degrees) * degree, lat0 = lat * degree;
  double e = lon0, n = lat0, back_lon = x, back_lat = y;
  projection->forward(&e, &n, 1);
  projection->inverse(&back_lon, &back_lat, 1);
  return {std::hypot(e - x, n - y) * crs.unit_size, test::ground_distance(lon0, lat0, back_lon, back_lat)};
}

// The CRSs of the vectors by their parameters, for those the registry does not hold.
std::map<std::string, Crs> crs_of_vectors() {
  std::map<std::string, Crs> out;
  for (const auto& row : test::csv_rows("projection_crs.csv")) {
    std::string method = row[1].substr(0, row[1].find(" (polar aspect)"));
    method = method.substr(0, method.find(" (geodesic)"));
    Crs crs = test::made_crs(method, {"", std::stod(row[2]), std::stod(row[3])}, {});
    auto add = [&](const char* name, int column) {
      if (!row[column].empty()) crs.parameters.emplace_back(name, std::stod(row[column]));
    };
    const bool by_parallel = method == "Mercator (variant B)" || method == "Polar Stereographic (variant B)" ||
                             method == "Polar Stereographic (variant C)";
    add(by_parallel && row[6].empty() ? "standard_parallel_1" : "latitude_of_origin", 4);
    add("central_meridian", 5);
    add(method.rfind("Krovak", 0) == 0 ? "pseudo_standard_parallel_1" : "standard_parallel_1", 6);
    add("standard_parallel_2", 7);
    add("azimuth", 8);
    add("rectified_grid_angle", 9);
    add("scale_factor", 10);
    add("ellipsoid_scaling_factor", 11);
    add("false_easting", 12);
    add("false_northing", 13);
    crs.unit_size = std::stod(row[14]);
    out[row[0]] = crs;
  }
  return out;
}

}  // namespace

TEST_CASE("projections agree with the reference vectors both ways") {
  const auto by_parameters = crs_of_vectors();
  std::map<std::string, Miss> worst;
  int of_registry = 0, all = 0;
  for (const auto& row : test::csv_rows("projection_vectors.csv")) {
    std::vector<Crs> candidates{by_parameters.at(row[0])};
    if (row[0][0] != 'x')
      if (const auto crs = registry().find(std::stoi(row[0]))) candidates.push_back(*crs);
    of_registry += candidates.size() == 2;
    ++all;
    for (const Crs& crs : candidates) {
      const Miss error = miss_at(crs, std::stod(row[2]), std::stod(row[3]), std::stod(row[4]), std::stod(row[5]));
      // On the rim of an orthographic view the inverse is the square root of a difference of rounded numbers.
      const bool rim = row[1] == "Orthographic" && std::stod(row[3]) == 0;
      INFO(row[0] << " " << row[1] << " at " << row[2] << ", " << row[3]);
      CHECK(error.forward < 1e-6);
      CHECK(error.inverse < (rim ? 0.2 : 1e-6));
      Miss& most = worst[row[1]];
      most.forward = std::max(most.forward, error.forward);
      if (!rim) most.inverse = std::max(most.inverse, error.inverse);
    }
  }
  CHECK(all > 1200);
  CHECK(of_registry > 900);
  std::cout << "Largest error against the reference vectors, metres, forward and inverse:\n";
  for (const auto& [method, error] : worst)
    std::cout << "  " << method << std::string(44 - method.size(), ' ') << error.forward << "  " << error.inverse
              << "\n";
}

TEST_CASE("published worked examples are reproduced") {
  int reproduced = 0;
  for (const auto& row : test::csv_rows("published_examples.csv")) {
    const auto crs = registry().find(std::stoi(row[1]));
    if (!crs) continue;
    INFO(row[0]);
    double x = (std::stod(row[2]) - crs->meridian_degrees) * degree, y = std::stod(row[3]) * degree;
    make_projection(*crs)->forward(&x, &y, 1);
    const double tolerance = std::stod(row[6]) + 1e-9;
    CHECK(std::fabs(x - std::stod(row[4])) < tolerance);
    CHECK(std::fabs(y - std::stod(row[5])) < tolerance);
    ++reproduced;
  }
  CHECK(reproduced >= 20);
}

TEST_CASE("examples of Snyder 1987 and of Guidance Note 373-7-2 for methods the registry has no row of") {
  const Ellipsoid clarke{"Clarke 1866", 6378206.4, 294.9786982}, international{"International 1924", 6378388, 297};
  struct Example {
    const char* method;
    Ellipsoid ellipsoid;
    Parameters parameters;
    double lon, lat, x, y, tolerance;
  };
  const Example examples[] = {
      {"Equidistant Conic",
       clarke,
       {{"latitude_of_origin", 23},
        {"central_meridian", -96},
        {"standard_parallel_1", 29.5},
        {"standard_parallel_2", 45.5}},
       -75,
       35,
       1885051.9,
       1540507.6,
       0.1},
      {"Bonne", clarke, {{"latitude_of_origin", 40}, {"central_meridian", -75}}, -85, 30, -962915.1, -1056065.0, 0.1},
      {"Sinusoidal", clarke, {{"central_meridian", -90}}, -75, -50, 1075471.5, -5540628.0, 0.1},
      {"Cassini-Soldner",
       clarke,
       {{"latitude_of_origin", 40}, {"central_meridian", -75}},
       -73,
       43,
       163071.1,
       335127.6,
       0.1},
      {"Lambert Azimuthal Equal Area",
       clarke,
       {{"latitude_of_origin", 40}, {"central_meridian", -100}},
       -110,
       30,
       -965932.1,
       -1056814.9,
       0.1},
      {"Azimuthal Equidistant",
       international,
       {{"latitude_of_origin", 90}, {"central_meridian", -100}},
       5,
       80,
       1078828.3,
       289071.2,
       0.1},
      {"Polar Stereographic (variant B)",
       international,
       {{"standard_parallel_1", -71}, {"central_meridian", -100}},
       150,
       -75,
       -1540033.6,
       -560526.4,
       0.1},
      {"Modified Azimuthal Equidistant",
       clarke,
       {{"latitude_of_origin", 15 + 11 / 60. + 5.6830 / 3600},
        {"central_meridian", 145 + 44 / 60. + 29.9720 / 3600},
        {"false_easting", 28657.52},
        {"false_northing", 67199.99}},
       145.79303,
       15.24652583333333,
       34176.20,
       74017.88,
       0.02},
      {"Orthographic",
       Ellipsoid{},
       {{"latitude_of_origin", 55}, {"central_meridian", 5}},
       2.12955,
       53.80939444444444,
       -189011.711,
       -128640.567,
       0.001},
      {"Mollweide", {"unit sphere", 1, 0}, {{"central_meridian", -90}}, -75, -50, 0.1788845, -0.9208758, 2e-7},
      {"Miller Cylindrical", {"unit sphere", 1, 0}, {}, -75, 50, -1.3089969, 0.9536371, 2e-7},
      {"Stereographic",
       clarke,
       {{"latitude_of_origin", 40}, {"central_meridian", -100}, {"scale_factor", 0.9999}},
       -90,
       30,
       971630.8,
       -1063049.3,
       0.1},
  };
  for (const Example& e : examples) {
    INFO(e.method);
    const Crs crs = test::made_crs(e.method, e.ellipsoid, e.parameters);
    double x = e.lon * degree, y = e.lat * degree;
    make_projection(crs)->forward(&x, &y, 1);
    CHECK(std::fabs(x - e.x) < e.tolerance);
    CHECK(std::fabs(y - e.y) < e.tolerance);
  }
}

namespace {

// A grid of 25 points over an area of use.
std::vector<std::pair<double, double>> points_over(const AreaOfUse& area) {
  const double east = area.east < area.west ? area.east + 360 : area.east;
  std::vector<std::pair<double, double>> points;
  for (double u : {0.01, 0.25, 0.5, 0.75, 0.99})
    for (double v : {0.01, 0.25, 0.5, 0.75, 0.99})
      points.emplace_back(area.west + u * (east - area.west), area.south + v * (area.north - area.south));
  return points;
}

// Largest distance from where points return to after forward and inverse; infinite where one does not.
double return_error(const Crs& crs, const std::vector<std::pair<double, double>>& points) {
  const auto projection = make_projection(crs);
  double most = 0;
  for (const auto& [lon, lat] : points) {
    const double lon0 = (lon - crs.meridian_degrees) * degree, lat0 = lat * degree;
    double x = lon0, y = lat0;
    projection->forward(&x, &y, 1);
    projection->inverse(&x, &y, 1);
    const double error = test::ground_distance(lon0, lat0, x, y);
    most = std::max(most, std::isnan(error) ? HUGE_VAL : error);
  }
  return most;
}

}  // namespace

TEST_CASE("every projected row returns from forward and inverse at 25 points of its area of use") {
  std::map<std::string, double> worst;
  int rows = 0, unsupported = 0;
  for (const Crs& crs : test::rows_of_kind(CrsKind::projected)) {
    ++rows;
    try {
      const double error = return_error(crs, points_over(*crs.area));
      INFO(crs.code << " " << crs.name << ", " << crs.method);
      CHECK(error < 1e-6);
      worst[crs.method] = std::max(worst[crs.method], error);
    } catch (const CrsError&) {
      ++unsupported;
    }
  }
  CHECK(rows >= 5055);
  CHECK(unsupported <= rows / 100);
  std::cout << "Largest error of forward and inverse over the registry, metres (" << rows << " rows):\n";
  for (const auto& [method, error] : worst)
    std::cout << "  " << method << std::string(44 - method.size(), ' ') << error << "\n";
}

TEST_CASE("methods without a row in the registry return from forward and inverse") {
  const Parameters centre{{"latitude_of_origin", 35}, {"central_meridian", 20}};
  std::vector<std::pair<double, double>> near, world;
  for (double u = -1; u <= 1; u += 0.25)
    for (double v = -1; v <= 1; v += 0.25) {
      near.emplace_back(20 + 2 * u, 35 + 2 * v);
      world.emplace_back(20 + 175 * u, 84 * v);
    }
  for (const char* method : {"Gnomonic", "Azimuthal Equidistant", "Modified Azimuthal Equidistant", "Guam Projection",
                             "Hyperbolic Cassini-Soldner", "Stereographic", "Orthographic", "Bonne"}) {
    INFO(method);
    // The modified azimuthal equidistant series is refined by differences at a step of a few metres.
    CHECK(return_error(test::made_crs(method, Ellipsoid{}, centre), near) < 1e-6);
  }
  for (const char* method : {"Robinson", "Winkel Tripel", "Mollweide", "Sinusoidal", "Equal Earth",
                             "Miller Cylindrical", "Azimuthal Equidistant", "Equidistant Cylindrical"}) {
    INFO(method);
    CHECK(return_error(test::made_crs(method, Ellipsoid{}, {{"central_meridian", 20}}), world) < 1e-6);
  }
  const Parameters points{{"latitude_of_origin", 40},    {"latitude_of_point_1", 47.5},  {"longitude_of_point_1", 17.7},
                          {"latitude_of_point_2", 25.7}, {"longitude_of_point_2", 21.3}, {"scale_factor", 0.9996}};
  const Crs oblique = test::made_crs("Hotine Oblique Mercator (two points)", Ellipsoid{}, points);
  CHECK(return_error(oblique, near) < 1e-6);
}

TEST_CASE("an oblique Mercator through two points draws both on the line across its centre") {
  const Crs crs = test::made_crs("Hotine Oblique Mercator (two points)", Ellipsoid{},
                                 {{"latitude_of_origin", 40},
                                  {"latitude_of_point_1", 47.5},
                                  {"longitude_of_point_1", -122.3},
                                  {"latitude_of_point_2", 25.7},
                                  {"longitude_of_point_2", -80.2}});
  double x[] = {-122.3 * degree, -80.2 * degree, -100 * degree}, y[] = {47.5 * degree, 25.7 * degree, 40 * degree};
  make_projection(crs)->forward(x, y, 3);
  // The initial line passes through the natural origin, so that both points share its direction.
  CHECK(std::fabs(x[0] * y[1] - x[1] * y[0]) < 1e-3 * std::hypot(x[0], y[0]));
}

TEST_CASE("the zoned grid is transverse Mercator with the zone before the easting") {
  const Crs zoned = *registry().find(32600), zone = *registry().find(32633);
  double x = 16.5 * degree, y = 48 * degree, x33 = x, y33 = y;
  make_projection(zoned)->forward(&x, &y, 1);
  make_projection(zone)->forward(&x33, &y33, 1);
  CHECK(x - 33e6 == Approx(x33).margin(1e-6));
  CHECK(y == Approx(y33).margin(1e-6));
}

TEST_CASE("the modified Krovak grid differs from the plain one by metres") {
  const Crs plain = *registry().find(5513), modified = *registry().find(5515), north = *registry().find(5516);
  double x = 16.8 * degree, y = 50.2 * degree, xm = x, ym = y, xn = x, yn = y;
  make_projection(plain)->forward(&x, &y, 1);
  make_projection(modified)->forward(&xm, &ym, 1);
  make_projection(north)->forward(&xn, &yn, 1);
  CHECK(std::hypot(xm - 5e6 - x, ym - 5e6 - y) < 1);
  CHECK(std::hypot(xm - 5e6 - x, ym - 5e6 - y) > 0.001);
  CHECK(xn == Approx(-xm));
  CHECK(yn == Approx(-ym));
}

TEST_CASE("coordinates outside a domain become NaN, never infinite") {
  const double lons[] = {0, 90, 179.9, -180, 400}, lats[] = {0, 45, -45, 90, -90, 91};
  std::map<std::string, Crs> one_each;
  for (const Crs& crs : test::rows_of_kind(CrsKind::projected)) one_each.emplace(crs.method, crs);
  for (const char* method : {"Orthographic", "Gnomonic", "Robinson", "Winkel Tripel", "Mollweide", "Stereographic"})
    one_each.emplace(method, test::made_crs(method, Ellipsoid{}, {{"latitude_of_origin", 30}}));
  for (const auto& [method, crs] : one_each) {
    const auto projection = make_projection(crs);
    for (const double lon : lons)
      for (const double lat : lats) {
        double x = lon * degree, y = lat * degree;
        projection->forward(&x, &y, 1);
        INFO(method << " at " << lon << ", " << lat);
        CHECK((std::isnan(x) ? std::isnan(y) : std::isfinite(x) && std::isfinite(y)));
        if (lat > 90) CHECK(std::isnan(x));
      }
    for (const double far : {1e3, -1e7, 1e9, 1e300, HUGE_VAL, std::nan("")}) {
      double x = far, y = -far;
      projection->inverse(&x, &y, 1);
      INFO(method << " back from " << far);
      CHECK((std::isnan(x) || (std::fabs(x) <= civic::pi && std::fabs(y) <= civic::pi / 2 + 1e-12)));
    }
  }
}

TEST_CASE("parameters out of range and methods that are not there are refused by name") {
  auto refused = [](const std::string& method, const Parameters& parameters, const char* message) {
    CHECK_THROWS_WITH(make_projection(test::made_crs(method, Ellipsoid{}, parameters)), Catch::Contains(message));
  };
  refused("Transverse Mercator", {{"latitude_of_origin", 95}}, "not a latitude");
  refused("Transverse Mercator", {{"central_meridian", 1e6}}, "not an angle");
  refused("Transverse Mercator", {{"scale_factor", 0}}, "scale factor");
  refused("Lambert Conic Conformal (2SP)", {{"standard_parallel_1", 30}, {"standard_parallel_2", -30}}, "no cone");
  refused("Albers Equal Area", {}, "no cone");
  refused("Oblique Stereographic", {{"latitude_of_origin", 90}}, "pole");
  refused("Transverse Mercator Zoned Grid System", {}, "zone width");
  refused("Bonne", {}, "equator");
  refused("Vertical Perspective", {}, "Vertical Perspective");
}
