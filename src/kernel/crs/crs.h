// A coordinate reference system as a value: what it is, not how it is spelled.
#pragma once
#include <array>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "../base/portable.h"
#include "../geodesy/ellipsoid.h"

namespace civic {

// Shift to WGS 84: dx, dy, dz in metres, rx, ry, rz in arc-seconds, scale in parts per million; position vector
// convention (EPSG method 9606).
using DatumShift = std::array<double, 7>;

struct Datum {
  std::string name;
  Ellipsoid ellipsoid;
  std::optional<DatumShift> shift;
  double shift_accuracy = 0;  // metres, 0 where not stated
  bool wants_grid = false;    // the registry prefers a grid file to the shift
};

enum class CrsKind { projected, geographic, geocentric, compound, local };

struct AreaOfUse {
  double south = 0, west = 0, north = 0, east = 0;  // degrees
  std::string text;
};

using Parameters = std::vector<std::pair<std::string, double>>;

struct Crs {
  CrsKind kind = CrsKind::geographic;
  std::string name;
  std::string code;      // "EPSG:32757", or empty
  bool matched = false;  // the code was found by comparing meaning, not stated by the source
  Datum datum;
  std::string meridian = "Greenwich";
  double meridian_degrees = 0;
  std::string unit = "metre";   // of the coordinates
  double unit_size = 1;         // in metres, or in degrees for a geographic CRS
  std::string geographic_name;  // of the base of a projected CRS
  std::string geographic_code;
  double angular_unit = 1;  // degrees per unit of the base geographic CRS
  std::string method;       // EPSG name of the projection method
  Parameters parameters;    // OGC names; angles in degrees, lengths in the CRS's unit
  std::optional<AreaOfUse> area;
  bool has_heights = false;  // the registry's three-dimensional geographic systems; heights are left as they are

  double parameter(std::string_view name, double otherwise) const;
  bool has_parameter(std::string_view name) const;
};

// Whether coordinates in one mean the same in the other: kind, ellipsoid, datum, meridian, unit, method and
// parameters; names and codes do not count where the datums agree.
bool same_meaning(const Crs& a, const Crs& b);

// The words of a datum's name in a form that is equal for all its spellings.
std::string datum_key(const std::string& name);

// Whether two datum names are spellings of one datum: "D_North_American_1983", "North American Datum 1983".
bool same_datum_name(const std::string& a, const std::string& b);

// Whether all words of one datum's name stand in the other: "NAD27" and "North American Datum 1927" do not, "DHDN" and
// "DHDN90" do.
bool names_agree(const std::string& a, const std::string& b);

const char* kind_name(CrsKind kind);

// The other of two standard parallels that a method takes in either order, "" for other parameters and methods.
std::string_view twin_parameter(std::string_view method, std::string_view parameter);

}  // namespace civic
