#include <algorithm>
#include <catch2/catch.hpp>

#include "grids_by_hand.h"
#include "kernel/crs/distortion.h"
#include "kernel/crs/reproject.h"
#include "kernel/crs/wkt_crs.h"
#include "registry.h"

using namespace civic;
using test::registry;

namespace {

// The datums of the vectors by their parameters.
struct VectorDatum {
  Datum datum;
  double meridian;
};
std::map<std::string, VectorDatum> datums_of_vectors() {
  std::map<std::string, VectorDatum> out;
  for (const auto& row : test::csv_rows("datum_crs.csv")) {
    VectorDatum v;
    v.datum.name = row[0];
    v.datum.ellipsoid = {"", std::stod(row[1]), std::stod(row[2])};
    DatumShift shift{};
    for (int i = 0; i < 7; ++i) shift[i] = std::stod(row[3 + i]);
    v.datum.shift = shift;
    v.meridian = std::stod(row[10]);
    out[row[0]] = v;
  }
  return out;
}

// Runs coordinates of one CRS to another; NaN where a domain ends.
std::vector<double> moved(const Crs& from, const Crs& to, double x, double y, const Transform::Grids& grids = {}) {
  Transform(from, to, grids).apply(&x, &y, 1);
  return {x, y};
}

Reprojected on(const std::string& text, const Crs& from, const Crs& to, double tolerance = 0) {
  const StoreBuffer store = test::store_of({text});
  const std::vector<int> handle{1};
  ReprojectOptions options;
  options.tolerance = tolerance;
  options.missing = -1;
  return reproject({store.view(), handle}, from, to, Transform(from, to), options);
}

double longest_edge(const StoreView& s) {
  double most = 0;
  for (int ring = 0; ring + 1 < static_cast<int>(s.ring_vertices.size()); ++ring) {
    const IndexRange v = s.vertices(ring);
    for (int i = v.begin; i + 1 < v.end; ++i)
      most = std::max(most, std::hypot(s.x[i + 1] - s.x[i], s.y[i + 1] - s.y[i]));
  }
  return most;
}

}  // namespace

TEST_CASE("datum shifts agree with the reference vectors") {
  const auto datums = datums_of_vectors();
  auto datum_of = [&](const std::string& code) {
    const auto known = datums.find(code);
    if (known != datums.end()) return known->second;
    const Crs crs = *registry().find(std::stoi(code));
    return VectorDatum{crs.datum, crs.meridian_degrees};
  };
  int tested = 0;
  for (const auto& row : test::csv_rows("datum_vectors.csv")) {
    const VectorDatum from = datum_of(row[0]), to = datum_of(row[1]);
    double lon = (std::stod(row[2]) + from.meridian) * degree, lat = std::stod(row[3]) * degree, h = std::stod(row[4]);
    DatumStep(from.datum, to.datum).apply(&lon, &lat, &h, 1);
    INFO(row[0] << " to " << row[1] << " at " << row[2] << ", " << row[3]);
    const double expected_lon = (std::stod(row[5]) + to.meridian) * degree, expected_lat = std::stod(row[6]) * degree;
    CHECK(test::ground_distance(lon, lat, expected_lon, expected_lat) < 1e-6);
    CHECK(std::fabs(h - std::stod(row[7])) < 1e-6);
    ++tested;
  }
  CHECK(tested == 75);
}

TEST_CASE("transforms there and back return to where they started") {
  const Crs wgs84 = *registry().find(4326);
  for (int code : {32757, 27700, 31370, 3857, 2154, 31467, 3395, 3035, 8441, 2263}) {
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

TEST_CASE("what has no way is refused by name, and steps are told with their accuracy") {
  const Crs wgs84 = *registry().find(4326);
  Crs unknown_datum = wgs84;
  unknown_datum.datum.name = "Elsewhere";
  unknown_datum.datum.ellipsoid.semi_major += 100;
  unknown_datum.datum.shift.reset();
  CHECK_THROWS_WITH(Transform(wgs84, unknown_datum), Catch::Contains("no published shift"));
  Crs unknown_method = *registry().find(32757);
  unknown_method.method = "Vertical Perspective";
  CHECK_THROWS_WITH(Transform(wgs84, unknown_method), Catch::Contains("Vertical Perspective"));
  const Transform transform(*registry().find(8441), *registry().find(32738));
  CHECK(transform.steps().size() == 3);  // inverse, shift, forward
  CHECK(transform.stated_accuracy() > 0);
}

// --- grid files -----------------------------------------------------------------------------------------------------

TEST_CASE("grids of either byte order shift by bilinear interpolation, the finest first") {
  for (const bool swapped : {false, true}) {
    const auto grid = GridShift::read(test::two_grids(swapped).bytes, "by-hand.gsb");
    CHECK(grid->from().name == "NAD27");
    CHECK(grid->accuracy() == Approx(0.05));
    const double second = degree / 3600;
    double lon = -75.7 * degree, lat = 45.3 * degree;
    REQUIRE(grid->forward(lon, lat));
    // The shift is linear, so that interpolation is exact to the floats of the file.
    CHECK((lat - 45.3 * degree) / second == Approx(1 + 45.3 * 3600e-6).epsilon(1e-6));
    CHECK((lon + 75.7 * degree) / second == Approx(2 - 75.7 * 3600e-6).epsilon(1e-6));
    double finer_lon = -74.7 * degree, finer_lat = 44.7 * degree;
    REQUIRE(grid->forward(finer_lon, finer_lat));
    CHECK((finer_lat - 44.7 * degree) / second == Approx(2 + 44.7 * 3600e-6).epsilon(1e-6));
    REQUIRE(grid->inverse(lon, lat));
    CHECK(test::ground_distance(lon, lat, -75.7 * degree, 45.3 * degree) < 1e-8);
    double out_lon = 0, out_lat = 0;
    CHECK(!grid->forward(out_lon, out_lat));
  }
}

TEST_CASE("a transform takes the grid of its datums, and parameters where the grid ends") {
  const Transform::Grids grids{GridShift::read(test::two_grids(false).bytes, "by-hand.gsb")};
  const Crs nad27 = *registry().find(4267), nad83 = *registry().find(4269), wgs84 = *registry().find(4326);
  const auto by_grid = moved(nad27, nad83, -75.7, 45.3, grids);
  CHECK((by_grid[1] - 45.3) * 3600 == Approx(1 + 45.3 * 3600e-6).epsilon(1e-5));
  const auto back = moved(nad83, nad27, by_grid[0], by_grid[1], grids);
  CHECK(back[0] == Approx(-75.7).epsilon(1e-12));
  // On to WGS 84 by way of NAD83, whose ellipsoid differs by a tenth of a millimetre.
  CHECK(moved(nad27, wgs84, -75.7, 45.3, grids)[1] == Approx(by_grid[1]).epsilon(1e-10));

  const Transform transform(nad27, nad83, grids);
  double x[] = {-75.7, -100}, y[] = {45.3, 40};
  transform.apply(x, y, 2);
  CHECK(transform.beyond_grids() == 1);
  CHECK(x[1] == Approx(moved(nad27, nad83, -100, 40)[0]).epsilon(1e-14));
  CHECK(!transform.lacks_grid());
  CHECK(Transform(nad27, nad83).lacks_grid());
  CHECK(transform.steps()[0].text.find("by-hand.gsb") != std::string::npos);
}

TEST_CASE("damaged grid files are refused with the byte") {
  const std::vector<std::uint8_t> good = test::two_grids(false).bytes;
  auto refused = [&](std::size_t keep, std::size_t at, std::uint8_t value, const char* message) {
    std::vector<std::uint8_t> bad(good.begin(), good.begin() + keep);
    if (at < bad.size()) bad[at] = value;
    CHECK_THROWS_WITH(GridShift::read(bad, "bad"), Catch::Contains(message));
  };
  refused(100, 1000, 0, "fewer than its header");
  refused(good.size(), 0, 'X', "no NTv2 grid");
  refused(good.size(), 8, 12, "unknown header");
  refused(good.size(), 3 * 16 + 8, 'X', "SECONDS, MINUTES and DEGREES");
  refused(good.size(), 11 * 16, 'X', "header is missing (byte 176)");
  refused(good.size() - 20, good.size(), 0, "cut off");
  refused(good.size(), 2 * 16 + 10, 9, "no usable number of grids");
  refused(good.size(), 21 * 16 + 8, 9, "count of nodes");
}

// --- whole layers ---------------------------------------------------------------------------------------------------

TEST_CASE("shapes across the edge of a map are cut there, without edges across it") {
  const Crs wgs84 = *registry().find(4326);
  for (const int code : {3395, 3857, 4087, 6933, 8857, 3994}) {
    const auto crs = registry().find(code);
    if (!crs) continue;
    const double middle = crs->parameter("central_meridian", 0);
    auto lon = [&](double off) { return std::to_string(std::remainder(middle + off, 360)); };
    const std::string text = "POLYGON ((" + lon(170) + " -10, " + lon(190) + " -10, " + lon(190) + " 10, " + lon(170) +
                             " 10, " + lon(170) + " -10))";
    const Reprojected out = on(text, wgs84, *crs);
    INFO(code);
    CHECK(out.cut == 1);
    CHECK(out.store.part_types.size() == 2);
    CHECK(longest_edge(out.store.view()) < 3e6);
  }
  CHECK(on("LINESTRING (10 0, 20 0)", wgs84, *registry().find(3395)).cut == 0);
  // Back from a projection without that edge.
  Crs pacific = test::made_crs("Lambert Azimuthal Equal Area", Ellipsoid{}, {{"central_meridian", 180}});
  pacific.datum = wgs84.datum;
  const Reprojected back = on("LINESTRING (-1000000 0, 1000000 0)", pacific, wgs84);
  CHECK(back.cut == 1);
  CHECK(longest_edge(back.store.view()) < 10);
}

TEST_CASE("shapes around a pole are whole on polar maps and follow the antimeridian on longitude and latitude") {
  const Crs wgs84 = *registry().find(4326), polar = *registry().find(3031);
  const char* cap = "POLYGON ((-180 -90, 180 -90, 180 -70, 90 -70, 0 -70, -90 -70, -180 -70, -180 -90))";
  const Reprojected flat = on(cap, wgs84, polar);
  CHECK(flat.store.x.size() == 5);  // four corners and the first again, no spike to the pole
  CHECK(longest_edge(flat.store.view()) < 4e6);
  const std::vector<int> handle{1};
  const Reprojected back = reproject({flat.store.view(), handle}, polar, wgs84, Transform(polar, wgs84), {});
  CHECK(back.cut == 1);
  CHECK(*std::min_element(back.store.y.begin(), back.store.y.end()) == -90);
}

TEST_CASE("long edges follow their curve to the tolerance asked for") {
  const Crs wgs84 = *registry().find(4326), crs = *registry().find(3575);
  const Transform transform(wgs84, crs);
  for (const double tolerance : {100000., 1000., 10.}) {
    const Reprojected out = on("LINESTRING (0 60, 90 60, 90 85)", wgs84, crs, tolerance);
    CHECK(out.added > 0);
    CHECK(out.added < 20 * std::sqrt(1e6 / tolerance));
    // Places of the parallel lie no further from the new line than the tolerance.
    double worst = 0;
    for (double lon = 0; lon <= 90; lon += 0.37) {
      double x = lon, y = 60, near = HUGE_VAL;
      transform.apply(&x, &y, 1);
      const auto &xs = out.store.x, &ys = out.store.y;
      for (std::size_t i = 0; i + 1 < xs.size(); ++i) {
        const double dx = xs[i + 1] - xs[i], dy = ys[i + 1] - ys[i];
        const double t = std::clamp(((x - xs[i]) * dx + (y - ys[i]) * dy) / (dx * dx + dy * dy), 0., 1.);
        near = std::min(near, std::hypot(x - xs[i] - t * dx, y - ys[i] - t * dy));
      }
      worst = std::max(worst, near);
    }
    INFO(tolerance << ": " << worst);
    CHECK(worst <= tolerance);
  }
}

TEST_CASE("a shape with a vertex outside the domain is reported, never turned into infinities") {
  const Crs wgs84 = *registry().find(4326), utm = *registry().find(32632);
  const StoreBuffer store = test::store_of({"LINESTRING (9 50, 100 10)", "POINT (9 50)", "POINT EMPTY"});
  const std::vector<int> handles{1, 2, 3, -1};
  ReprojectOptions options;
  options.missing = -1;
  const Reprojected out = reproject({store.view(), handles}, wgs84, utm, Transform(wgs84, utm), options);
  CHECK(out.lost == std::vector<int>{0});
  CHECK(out.handles[0] == -1);
  CHECK(out.handles[1] > 0);
  for (const double x : out.store.x) CHECK(!std::isinf(x));
}

TEST_CASE("distortion is that of the method: none in angles or areas where it keeps them") {
  const Crs utm = *registry().find(32757), equal_area = *registry().find(3035);
  const Distortion on_meridian = DistortionMeter(utm).at(159 * degree, -47 * degree);
  CHECK(on_meridian.least == Approx(0.9996).epsilon(1e-9));
  CHECK(on_meridian.greatest == Approx(0.9996).epsilon(1e-9));
  CHECK(on_meridian.convergence == Approx(0).margin(1e-7));
  const Distortion beside = DistortionMeter(utm).at(161 * degree, -47 * degree);
  CHECK(beside.angle < 1e-4);
  CHECK(beside.area == Approx(beside.least * beside.greatest).epsilon(1e-9));
  const Distortion laea = DistortionMeter(equal_area).at(25 * degree, 40 * degree);
  CHECK(laea.area == Approx(1).epsilon(1e-9));
  CHECK(laea.greatest > 1.001);
  CHECK(laea.angle > 0.1);
}
