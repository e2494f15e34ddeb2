// What the tests of coordinate reference systems share.
#pragma once
#include <cmath>
#include <map>
#include <string>

#include "kernel/base/error.h"
#include "kernel/crs/projection.h"
#include "kernel/crs/registry.h"
#include "support.h"

namespace test {


inline const civic::Registry& registry() {
  static const civic::Registry instance = civic::Registry::load(std::string(CIVIC_ROOT) + "/inst/crs/registry.tsv.gz");
  return instance;
}

// All rows but the compound ones whose horizontal part the registry lacks.
inline std::vector<civic::Crs> rows_of_kind(civic::CrsKind kind) {
  std::vector<civic::Crs> rows;
  for (const int code : registry().codes()) {
    try {
      const auto crs = registry().find(code);
      if (crs->kind == kind) rows.push_back(*crs);
    } catch (const civic::CrsError&) {
    }
  }
  return rows;
}

// Metres on the ground between two places in radians.
inline double ground_distance(double lon1, double lat1, double lon2, double lat2) {
  return std::hypot(std::remainder(lon1 - lon2, 2 * civic::pi) * std::cos(lat1), lat1 - lat2) * 6378137;
}

// A projected CRS by its method and parameters, in metres on a named ellipsoid.
inline civic::Crs made_crs(const std::string& method, const civic::Ellipsoid& ellipsoid,
                           const civic::Parameters& parameters) {
  civic::Crs crs;
  crs.kind = civic::CrsKind::projected;
  crs.name = "made for a test";
  crs.method = method;
  crs.datum.ellipsoid = ellipsoid;
  crs.parameters = parameters;
  return crs;
}

}  // namespace test
