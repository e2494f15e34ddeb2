#include <algorithm>
#include <cmath>
#include <map>

#include "../base/error.h"
#include "spelling.h"
#include "wkt_crs.h"
#include "wkt_tree.h"

namespace civic {
namespace {

[[noreturn]] void fail_at(const WktNode& node, const std::string& what) {
  throw CrsError("the text of the CRS " + what + " at character " + std::to_string(node.position));
}

// "EPSG:32757" from AUTHORITY["EPSG","32757"] or ID["EPSG",32757].
std::string stated_code(const WktNode& node) {
  const WktNode* authority = node.child({"AUTHORITY", "ID"});
  if (!authority || authority->texts.empty()) return "";
  std::string code = authority->texts.size() > 1  ? authority->texts[1]
                     : authority->numbers.empty() ? ""
                                                  : std::to_string(static_cast<long>(authority->numbers[0]));
  return code.empty() ? "" : authority->texts[0] + ":" + code;
}

int epsg_code(const WktNode& node) {
  const std::string code = stated_code(node);
  return code.rfind("EPSG:", 0) == 0 ? std::atoi(code.c_str() + 5) : 0;
}

// Degrees in an angular unit given in radians. Texts give 0.0174532925199433 for a degree, which is one within its
// digits.
double degrees_of_unit(double radians) {
  const double degrees = radians / degree;
  for (const double exact : {1.0, 0.9, 1. / 3600, 180 / pi})
    if (std::fabs(degrees - exact) < 1e-9 * exact) return exact;
  return degrees;
}

const WktNode* unit_of(const WktNode& node) { return node.child({"UNIT", "ANGLEUNIT", "LENGTHUNIT", "SCALEUNIT"}); }

std::string unit_name(const std::string& name, double size) {
  const std::string word = lower(name);
  if (word == "meter" || word == "metre" || word == "m") return "metre";
  if (word == "foot_us" || std::fabs(size - 1200. / 3937) < 1e-12) return "US survey foot";
  if (word == "foot" && std::fabs(size - 0.3048) < 1e-12) return "foot";
  if (word == "degree" || word == "decimal_degree") return "degree";
  if (word == "grad" || word == "gon") return "grad";
  return name;
}

void read_length_unit(const WktNode& unit, Crs& crs) {
  crs.unit_size = unit.number();
  if (!(crs.unit_size > 0) || !std::isfinite(crs.unit_size)) fail_at(unit, "gives a unit of no size");
  crs.unit = unit_name(unit.text(), crs.unit_size);
}

// The unit of the coordinates in text 2 stands once after the axes, or in each of them.
const WktNode* unit_of_axes(const WktNode& node) {
  if (const WktNode* unit = unit_of(node)) return unit;
  for (const WktNode& child : node.children)
    if (child.keyword == "AXIS")
      if (const WktNode* unit = unit_of(child)) return unit;
  return nullptr;
}

void read_ellipsoid(const WktNode& node, Datum& datum) {
  const WktNode& ellipsoid = node.required({"SPHEROID", "ELLIPSOID"});
  const auto& n = ellipsoid.numbers;
  if (n.size() < 2 || !(n[0] > 0) || !std::isfinite(n[0]) || n[1] < 0 || (n[1] > 0 && n[1] < 10))
    fail_at(ellipsoid, "gives no usable ellipsoid");
  const WktNode* unit = unit_of(ellipsoid);
  datum.ellipsoid = {ellipsoid.text(), n[0] * (unit ? unit->number() : 1), n[1]};
}

void read_shift(const WktNode& node, Datum& datum) {
  const WktNode* shift = node.child({"TOWGS84"});
  if (!shift) return;
  if (shift->numbers.size() != 3 && shift->numbers.size() != 7)
    fail_at(*shift, "gives a datum shift of neither 3 nor 7");
  DatumShift values{};
  std::copy(shift->numbers.begin(), shift->numbers.end(), values.begin());
  datum.shift = values;
  datum.wants_grid = false;
}

void read_geographic(const WktNode& node, const Registry& registry, Crs& crs) {
  const WktNode& datum = node.required({"DATUM", "GEODETICDATUM", "TRF", "ENSEMBLE"});
  crs.kind = CrsKind::geographic;
  crs.name = node.text();
  crs.code = stated_code(node);
  crs.datum.name = datum.text();
  read_ellipsoid(datum, crs.datum);
  if (const auto known = registry.find_datum(crs.datum, epsg_code(node))) crs.datum = *known;
  read_shift(datum, crs.datum);
  const WktNode* unit = unit_of_axes(node);
  if (!unit && node.keyword == "GEOGCS") node.required({"UNIT"});
  crs.angular_unit = unit && unit->keyword != "LENGTHUNIT" ? degrees_of_unit(unit->number()) : 1;
  if (!(crs.angular_unit > 0) || !std::isfinite(crs.angular_unit)) fail_at(*unit, "gives a unit of no size");
  crs.unit = unit ? unit_name(unit->text(), 0) : "degree";
  crs.unit_size = crs.angular_unit;
  if (const WktNode* meridian = node.child({"PRIMEM", "PRIMEMERIDIAN"})) {
    crs.meridian = meridian->text();
    const WktNode* own = unit_of(*meridian);
    // Text 1 gives the meridian in degrees in practice, whatever the unit of the coordinates.
    crs.meridian_degrees = meridian->number() * (own ? degrees_of_unit(own->number()) : 1);
    if (!(std::fabs(crs.meridian_degrees) <= 360)) fail_at(*meridian, "gives a prime meridian beyond 360 degrees");
  }
}

bool is_length(const std::string& name) { return name == "false_easting" || name == "false_northing"; }
bool is_plain_number(const std::string& name) {
  return name.find("scal") != std::string::npos || name == "auxiliary_sphere_type" || name == "x_scale" ||
         name == "y_scale" || name == "option";
}

std::string parameter_named(const WktNode& node) {
  static const std::map<std::string, std::string> words{
      {"central_parallel", "latitude_of_origin"},         {"latitude_of_center", "latitude_of_origin"},
      {"longitude_of_origin", "central_meridian"},        {"longitude_of_center", "central_meridian"},
      {"latitude_of_1st_point", "latitude_of_point_1"},   {"latitude_of_2nd_point", "latitude_of_point_2"},
      {"longitude_of_1st_point", "longitude_of_point_1"}, {"longitude_of_2nd_point", "longitude_of_point_2"}};
  const std::string name = lower(node.text());
  if (const auto known = words.find(name); known != words.end()) return known->second;
  const std::string ours = parameter_by_epsg(epsg_code(node), node.text());
  return ours;
}

void read_parameters(const WktNode& node, Crs& crs) {
  for (const WktNode& child : node.children) {
    if (child.keyword != "PARAMETER") continue;
    const std::string name = parameter_named(child);
    double value = child.number();
    if (!std::isfinite(value)) fail_at(child, "gives a parameter that is no number");
    const WktNode* unit = unit_of(child);
    if (is_length(name))
      value *= unit ? unit->number() / crs.unit_size : 1;
    else if (!is_plain_number(name))
      value *= unit ? degrees_of_unit(unit->number()) : crs.angular_unit;
    crs.parameters.emplace_back(name, value);
  }
}

void drop_parameter(Crs& crs, const char* name) {
  std::erase_if(crs.parameters, [&](const auto& p) { return p.first == name; });
}

void rename_parameter(Crs& crs, const char* from, const char* to) {
  if (!crs.has_parameter(from)) return;
  drop_parameter(crs, to);
  for (auto& p : crs.parameters)
    if (p.first == from) p.first = to;
}

bool on_pole(const Crs& crs) { return std::fabs(std::fabs(crs.parameter("latitude_of_origin", 0)) - 90) < 1e-9; }

// One word may stand for several methods, told apart by their parameters.
void settle_lambert_conic(Crs& crs) {
  const bool two = crs.has_parameter("standard_parallel_2");
  if (two) {
    crs.method = "Lambert Conic Conformal (2SP)";
    if (crs.parameter("scale_factor", 1) == 1) drop_parameter(crs, "scale_factor");
    return;
  }
  // With one standard parallel that is the latitude of origin, which the shapefile's spelling repeats.
  crs.method = "Lambert Conic Conformal (1SP)";
  if (!crs.has_parameter("latitude_of_origin")) rename_parameter(crs, "standard_parallel_1", "latitude_of_origin");
  const double parallel = crs.parameter("standard_parallel_1", crs.parameter("latitude_of_origin", 0));
  if (parallel == crs.parameter("latitude_of_origin", 0)) return drop_parameter(crs, "standard_parallel_1");
  crs.method = "Lambert Conic Conformal (2SP)";
  crs.parameters.emplace_back("standard_parallel_2", parallel);
}

void settle_polar(Crs& crs, const std::string& word) {
  if (word == "stereographic_south_pole" && crs.has_parameter("standard_parallel_1") &&
      crs.parameter("standard_parallel_1", 0) > 0)
    for (auto& p : crs.parameters)
      if (p.first == "standard_parallel_1") p.second = -p.second;
  const bool scaled = crs.has_parameter("scale_factor");
  if (crs.has_parameter("standard_parallel_1")) {
    crs.method = "Polar Stereographic (variant B)";
    drop_parameter(crs, "latitude_of_origin");
  } else if (on_pole(crs) && (scaled || word == "stereographic")) {
    crs.method = "Polar Stereographic (variant A)";
    return;
  } else {
    crs.method = "Polar Stereographic (variant B)";
    rename_parameter(crs, "latitude_of_origin", "standard_parallel_1");
  }
  drop_parameter(crs, "scale_factor");
}

void settle_mercator(Crs& crs) {
  if (crs.has_parameter("standard_parallel_1") && crs.parameter("standard_parallel_1", 0) != 0) {
    crs.method = "Mercator (variant B)";
    if (crs.parameter("scale_factor", 1) == 1) drop_parameter(crs, "scale_factor");
  } else {
    crs.method = "Mercator (variant A)";
    drop_parameter(crs, "standard_parallel_1");
  }
}

// Axes that point east and north make the other Krovak.
void settle_krovak(Crs& crs, const WktNode& node) {
  const bool turned = crs.parameter("rectified_grid_angle", 0) == 90 && crs.parameter("x_scale", 1) == -1;
  const WktNode* axis = node.child({"AXIS"});
  const bool east = node.keyword == "PROJCS" && axis && axis->child({"EAST"});
  if (turned || east) crs.method = "Krovak (North Orientated)";
  for (const char* name : {"x_scale", "y_scale", "rectified_grid_angle"}) drop_parameter(crs, name);
}

void settle_oblique_mercator(Crs& crs, const std::string& word) {
  rename_parameter(crs, "xy_plane_rotation", "rectified_grid_angle");
  if (word.rfind("swiss", 0) == 0 && !crs.has_parameter("azimuth")) {
    crs.parameters.emplace_back("azimuth", 90);
    crs.parameters.emplace_back("rectified_grid_angle", 90);
  }
  if (crs.has_parameter("azimuth") && !crs.has_parameter("rectified_grid_angle"))
    crs.parameters.emplace_back("rectified_grid_angle", crs.parameter("azimuth", 0));
}

void settle_method(Crs& crs, const WktNode& node, const std::string& word) {
  drop_parameter(crs, "auxiliary_sphere_type");
  if (crs.method == "Popular Visualisation Pseudo Mercator") {
    drop_parameter(crs, "standard_parallel_1");
    drop_parameter(crs, "latitude_of_origin");
  } else if (word == "lambert_conformal_conic") {
    settle_lambert_conic(crs);
  } else if (word == "mercator") {
    settle_mercator(crs);
  } else if (word == "stereographic" && !on_pole(crs)) {
    crs.method = "Stereographic";
  } else if (word == "polar_stereographic" || word.rfind("stereographic", 0) == 0) {
    settle_polar(crs, word);
  } else if (word == "krovak") {
    rename_parameter(crs, "xy_plane_rotation", "rectified_grid_angle");
    settle_krovak(crs, node);
  } else if (crs.method.rfind("Hotine", 0) == 0) {
    settle_oblique_mercator(crs, word);
  } else if (crs.method == "Bonne" && !crs.has_parameter("latitude_of_origin")) {
    rename_parameter(crs, "standard_parallel_1", "latitude_of_origin");
  }
}

void read_method(const WktNode& conversion, const WktNode& crs_node, Crs& crs) {
  read_parameters(conversion, crs);
  const WktNode& node = conversion.required({"PROJECTION", "METHOD"});
  const MethodSpelling* method = method_by_code(node.keyword == "METHOD" ? epsg_code(node) : 0);
  if (!method) method = method_by_word(node.text());
  crs.method = method ? method->name : node.text();
  settle_method(crs, crs_node, lower(node.text()));
}

void read_projected(const WktNode& node, const Registry& registry, Crs& crs) {
  const WktNode& base =
      node.required({"GEOGCS", "BASEGEOGCRS", "BASEGEODCRS", "GEOGCRS", "GEOGRAPHICCRS", "GEODCRS", "GEODETICCRS"});
  read_geographic(base, registry, crs);
  crs.kind = CrsKind::projected;
  crs.geographic_name = crs.name;
  crs.geographic_code = crs.code;
  const bool first_version = node.keyword == "PROJCS";
  if (const WktNode* unit = unit_of_axes(node))
    read_length_unit(*unit, crs);
  else if (first_version)
    node.required({"UNIT"});
  else
    crs.unit = "metre", crs.unit_size = 1;
  read_method(first_version ? node : node.required({"CONVERSION"}), node, crs);
}

void read_area(const WktNode& node, Crs& crs) {
  const WktNode* usage = node.child({"USAGE"});
  const WktNode& holder = usage ? *usage : node;
  const WktNode* box = holder.child({"BBOX"});
  if (!box || box->numbers.size() != 4) return;
  const auto& n = box->numbers;
  crs.area = AreaOfUse{n[0], n[1], n[2], n[3], ""};
  if (const WktNode* area = holder.child({"AREA"})) crs.area->text = area->text();
}

constexpr auto projected_words = {"PROJCS", "PROJCRS", "PROJECTEDCRS"};
constexpr auto geographic_words = {"GEOGCS", "GEOGCRS", "GEOGRAPHICCRS", "GEODCRS", "GEODETICCRS"};
constexpr auto local_words = {"LOCAL_CS", "ENGCRS", "ENGINEERINGCRS"};

bool is_one_of(const std::string& keyword, std::initializer_list<const char*> words) {
  return std::any_of(words.begin(), words.end(), [&](const char* word) { return keyword == word; });
}

// The part of a compound or bound CRS that x and y are on.
const WktNode& horizontal_part(const WktNode& root) {
  if (is_one_of(root.keyword, {"COMPD_CS", "COMPOUNDCRS"})) {
    for (const WktNode& child : root.children)
      if (is_one_of(child.keyword, projected_words) || is_one_of(child.keyword, geographic_words)) return child;
    fail_at(root, "has no horizontal part");
  }
  if (root.keyword == "BOUNDCRS") {
    const WktNode& source = root.required({"SOURCECRS"});
    if (source.children.empty()) fail_at(source, "lacks a CRS");
    return source.children[0];
  }
  return root;
}

// The shift to WGS 84 that a bound CRS states.
void read_bound_shift(const WktNode& root, Crs& crs) {
  const WktNode& operation = root.required({"ABRIDGEDTRANSFORMATION"});
  static const std::pair<int, const char*> places[] = {{8605, "x_axis_translation"}, {8606, "y_axis_translation"},
                                                       {8607, "z_axis_translation"}, {8608, "x_axis_rotation"},
                                                       {8609, "y_axis_rotation"},    {8610, "z_axis_rotation"},
                                                       {8611, "scale_difference"}};
  DatumShift shift{};
  bool found = false;
  for (const WktNode& child : operation.children) {
    if (child.keyword != "PARAMETER") continue;
    std::string name = lower(underscored(child.text()));
    std::replace(name.begin(), name.end(), '-', '_');
    for (std::size_t i = 0; i < shift.size(); ++i) {
      if (epsg_code(child) != places[i].first && name != places[i].second) continue;
      shift[i] = child.number();
      if (i == 6 && shift[i] > 0.5) shift[i] = (shift[i] - 1) * 1e6;  // given as a factor
      found = true;
    }
  }
  const std::string method = lower(operation.required({"METHOD"}).text());
  if (method.find("coordinate frame") != std::string::npos)
    for (int i = 3; i < 6; ++i) shift[i] = -shift[i];
  if (!found) return;
  crs.datum.shift = shift;
  crs.datum.wants_grid = false;
}

}  // namespace

Crs parse_crs_text(std::string_view text, const Registry& registry) {
  const WktNode root = read_wkt_tree(text);
  const WktNode& node = horizontal_part(root);
  Crs crs;
  const WktNode* system = node.child({"CS"});
  if (is_one_of(node.keyword, projected_words)) {
    read_projected(node, registry, crs);
  } else if (is_one_of(node.keyword, geographic_words)) {
    read_geographic(node, registry, crs);
    if (system && system->child({"CARTESIAN"})) crs.kind = CrsKind::geocentric;
  } else if (node.keyword == "GEOCCS") {
    crs.kind = CrsKind::geocentric;
    crs.datum.name = node.required({"DATUM"}).text();
    read_ellipsoid(node.required({"DATUM"}), crs.datum);
  } else if (is_one_of(node.keyword, local_words)) {
    crs.kind = CrsKind::local;
    if (const WktNode* unit = unit_of_axes(node)) read_length_unit(*unit, crs);
  } else {
    throw CrsError("the text of the CRS starts with " + node.keyword +
                   ", which is no horizontal CRS (PROJCS, GEOGCS, PROJCRS, GEOGCRS, …)");
  }
  if (root.keyword == "BOUNDCRS") read_bound_shift(root, crs);
  crs.name = node.text();
  crs.code = stated_code(node);
  read_area(node, crs);
  return crs;
}

}  // namespace civic
