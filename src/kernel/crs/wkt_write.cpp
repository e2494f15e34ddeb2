#include <charconv>
#include <cmath>

#include "../base/error.h"
#include "spelling.h"
#include "wkt_crs.h"

namespace civic {
namespace {

std::string quoted(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    out += c;
    if (c == '"') out += c;
  }
  return out + '"';
}

// The shortest digits that read back the same, without an exponent where that is readable.
std::string digits(double value) {
  char text[64];
  const bool plain = value == 0 || (std::fabs(value) < 1e15 && std::fabs(value) > 1e-6);
  const auto end = plain ? std::to_chars(text, text + sizeof text, value, std::chars_format::fixed).ptr
                         : std::to_chars(text, text + sizeof text, value).ptr;
  return {text, end};
}

// Digits with a decimal point, as .prj files have them.
std::string decimal(double value) {
  const std::string out = digits(value);
  return out.find_first_of(".e") == std::string::npos ? out + ".0" : out;
}

double radians_of(double degrees) { return degrees * pi / 180; }
bool is_length(const std::string& name) { return name == "false_easting" || name == "false_northing"; }
bool is_number(const std::string& name) { return name.find("scal") != std::string::npos; }

std::string capitalised(std::string name) {
  bool start = true;
  for (char& c : name) {
    if (start) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    start = c == '_';
  }
  return name;
}

const MethodSpelling& spelling_of(const Crs& crs) {
  static const MethodSpelling unknown{"", 0, "", nullptr, ParameterNames::natural, false};
  const MethodSpelling* method = method_spelling(crs.method);
  return method ? *method : unknown;
}

std::string text_1_local(const Crs& crs, const std::string& unit) {
  return "LOCAL_CS[" + quoted(crs.name) + ",UNIT[" + quoted(unit) + "," + digits(crs.unit_size) + "]]";
}

// --- the spelling of .prj files ------------------------------------------------------------------------------------

// Words joined by underscores, WGS 84 in full.
std::string prj_name(std::string text) {
  if (text.rfind("WGS 84", 0) == 0) text.replace(0, 6, "WGS 1984");
  return underscored(text);
}

std::string prefixed(const char* prefix, const std::string& text) {
  const std::string name = prj_name(text);
  return name.rfind(prefix, 0) == 0 ? name : prefix + name;
}

std::string prj_unit(const Crs& crs) {
  if (crs.unit == "metre") return "Meter";
  if (crs.unit == "US survey foot") return "Foot_US";
  if (crs.unit == "foot") return "Foot";
  return underscored(crs.unit);
}

std::string prj_geographic(const Crs& crs, const std::string& name) {
  const std::string unit = crs.angular_unit == 1 ? "Degree" : crs.angular_unit == 0.9 ? "Grad" : "Unit";
  return "GEOGCS[" + quoted(prefixed("GCS_", name)) + ",DATUM[" + quoted(prefixed("D_", crs.datum.name)) +
         ",SPHEROID[" + quoted(prj_name(crs.datum.ellipsoid.name)) + "," + decimal(crs.datum.ellipsoid.semi_major) +
         "," + decimal(crs.datum.ellipsoid.inverse_flattening) + "]],PRIMEM[" + quoted(prj_name(crs.meridian)) + "," +
         decimal(crs.meridian_degrees) + "],UNIT[" + quoted(unit) + "," + decimal(radians_of(crs.angular_unit)) + "]]";
}

// What the spelling calls a method, and the parameters it wants for it.
std::pair<std::string, Parameters> prj_method(const Crs& crs) {
  const MethodSpelling& method = spelling_of(crs);
  std::string word = method.shapefile ? method.shapefile : method.ogc;
  if (word.empty()) word = underscored(crs.method);
  Parameters parameters = crs.parameters;
  if (crs.method == "Lambert Conic Conformal (1SP)")
    parameters.emplace_back("standard_parallel_1", crs.parameter("latitude_of_origin", 0));
  if (crs.method == "Mercator (variant A)" && crs.parameter("scale_factor", 1) == 1 &&
      crs.parameter("latitude_of_origin", 0) == 0) {
    word = "Mercator";
    std::erase_if(parameters, [](const auto& p) { return p.first == "scale_factor"; });
    parameters.emplace_back("standard_parallel_1", 0);
  }
  if (crs.method == "Polar Stereographic (variant B)" && crs.parameter("standard_parallel_1", 0) < 0)
    word = "Stereographic_South_Pole";
  if (method.names == ParameterNames::cone && word == "Krovak") {
    const bool turned = crs.method == "Krovak (North Orientated)";
    parameters.emplace_back("x_scale", turned ? -1 : 1);
    parameters.emplace_back("y_scale", 1);
    parameters.emplace_back("xy_plane_rotation", turned ? 90 : 0);
  }
  const bool hotine = crs.has_parameter("rectified_grid_angle");
  if (hotine && crs.parameter("rectified_grid_angle", 0) == crs.parameter("azimuth", 0)) {
    std::erase_if(parameters, [](const auto& p) { return p.first == "rectified_grid_angle"; });
  } else if (hotine) {
    word = std::string("Rectified_Skew_Orthomorphic_") +
           (crs.method == "Hotine Oblique Mercator (variant A)" ? "Natural_Origin" : "Center");
    for (auto& p : parameters)
      if (p.first == "rectified_grid_angle") p.first = "xy_plane_rotation";
  }
  const bool centred = method.names == ParameterNames::centre || method.names == ParameterNames::grid_centre ||
                       method.names == ParameterNames::cone;
  for (auto& p : parameters) {
    if (centred && p.first == "latitude_of_origin") p.first = "latitude_of_center";
    if (centred && p.first == "central_meridian") p.first = "longitude_of_center";
  }
  return {word, parameters};
}

std::string prj_text(const Crs& crs) {
  if (crs.kind == CrsKind::geographic) return prj_geographic(crs, crs.name);
  if (crs.kind == CrsKind::local) return text_1_local(crs, prj_unit(crs));
  const auto [word, parameters] = prj_method(crs);
  std::string text = "PROJCS[" + quoted(prj_name(crs.name)) + "," + prj_geographic(crs, crs.geographic_name) +
                     ",PROJECTION[" + quoted(word) + "]";
  for (const auto& [name, value] : parameters) {
    const bool angle = !is_length(name) && !is_number(name);
    text += ",PARAMETER[" + quoted(name == "xy_plane_rotation" ? "XY_Plane_Rotation" : capitalised(name)) + "," +
            decimal(angle ? value / crs.angular_unit : value) + "]";
  }
  return text + ",UNIT[" + quoted(prj_unit(crs)) + "," + decimal(crs.unit_size) + "]]";
}

// --- OGC 01-009 ----------------------------------------------------------------------------------------------------

std::string code_part(const std::string& code, const char* keyword) {
  const std::size_t colon = code.find(':');
  if (colon == std::string::npos) return "";
  const bool first = std::string(keyword) == "AUTHORITY";
  const std::string number = code.substr(colon + 1);
  return "," + std::string(keyword) + "[" + quoted(code.substr(0, colon)) + "," + (first ? quoted(number) : number) +
         "]";
}

std::string wkt1_geographic(const Crs& crs, const std::string& name, const std::string& code) {
  std::string shift;
  if (crs.datum.shift) {
    for (const double value : *crs.datum.shift) shift += (shift.empty() ? "" : ",") + digits(value);
    shift = ",TOWGS84[" + shift + "]";
  }
  const std::string unit = crs.angular_unit == 1 ? "degree" : crs.angular_unit == 0.9 ? "grad" : "unit";
  return "GEOGCS[" + quoted(name) + ",DATUM[" + quoted(prj_name(crs.datum.name)) + ",SPHEROID[" +
         quoted(crs.datum.ellipsoid.name) + "," + digits(crs.datum.ellipsoid.semi_major) + "," +
         digits(crs.datum.ellipsoid.inverse_flattening) + "]" + shift + "],PRIMEM[" + quoted(crs.meridian) + "," +
         digits(crs.meridian_degrees) + "],UNIT[" + quoted(unit) + "," + digits(radians_of(crs.angular_unit)) + "]" +
         code_part(code, "AUTHORITY") + "]";
}

std::string wkt1_text(const Crs& crs) {
  if (crs.kind == CrsKind::geographic) return wkt1_geographic(crs, crs.name, crs.code);
  if (crs.kind == CrsKind::local) return text_1_local(crs, crs.unit);
  const MethodSpelling& method = spelling_of(crs);
  std::string text = "PROJCS[" + quoted(crs.name) + "," +
                     wkt1_geographic(crs, crs.geographic_name, crs.geographic_code) + ",PROJECTION[" +
                     quoted(*method.ogc ? method.ogc : underscored(crs.method)) + "]";
  for (auto [name, value] : crs.parameters) {
    if (!is_length(name) && !is_number(name)) value /= crs.angular_unit;
    if (method.centred && name == "latitude_of_origin") name = "latitude_of_center";
    if (method.centred && name == "central_meridian") name = "longitude_of_center";
    if (crs.method == "Polar Stereographic (variant B)" && name == "standard_parallel_1") name = "latitude_of_origin";
    text += ",PARAMETER[" + quoted(name) + "," + digits(value) + "]";
  }
  return text + ",UNIT[" + quoted(crs.unit) + "," + digits(crs.unit_size) + "]" + code_part(crs.code, "AUTHORITY") +
         "]";
}

// --- OGC 18-010r11 -------------------------------------------------------------------------------------------------

std::string angle_unit(const Crs& crs) {
  const std::string name = crs.angular_unit == 1 ? "degree" : crs.angular_unit == 0.9 ? "grad" : crs.unit;
  return "ANGLEUNIT[" + quoted(name) + "," + digits(radians_of(crs.angular_unit)) + "]";
}
std::string length_unit(const Crs& crs) { return "LENGTHUNIT[" + quoted(crs.unit) + "," + digits(crs.unit_size) + "]"; }

std::string usage_part(const Crs& crs) {
  if (!crs.area) return "";
  const AreaOfUse& a = *crs.area;
  return ",USAGE[SCOPE[\"unknown\"]" + (a.text.empty() ? "" : ",AREA[" + quoted(a.text) + "]") + ",BBOX[" +
         digits(a.south) + "," + digits(a.west) + "," + digits(a.north) + "," + digits(a.east) + "]]";
}

std::string wkt2_datum(const Crs& crs) {
  return "DATUM[" + quoted(crs.datum.name) + ",ELLIPSOID[" + quoted(crs.datum.ellipsoid.name) + "," +
         digits(crs.datum.ellipsoid.semi_major) + "," + digits(crs.datum.ellipsoid.inverse_flattening) +
         ",LENGTHUNIT[\"metre\",1]]],PRIMEM[" + quoted(crs.meridian) + "," + digits(crs.meridian_degrees) +
         ",ANGLEUNIT[\"degree\"," + digits(radians_of(1)) + "]]";
}

std::string wkt2_method(const Crs& crs) {
  const MethodSpelling& method = spelling_of(crs);
  auto id = [](int code) { return code == 0 ? "" : ",ID[\"EPSG\"," + std::to_string(code) + "]"; };
  std::string text = "CONVERSION[" + quoted(crs.name) + ",METHOD[" + quoted(crs.method) + id(method.epsg) + "]";
  for (const auto& [name, value] : crs.parameters) {
    const ParameterSpelling p = epsg_parameter(method.names, name);
    const bool length = is_length(name), number = is_number(name);
    text += ",PARAMETER[" + quoted(p.name) + "," + digits(length || number ? value : value / crs.angular_unit) + "," +
            (length   ? length_unit(crs)
             : number ? "SCALEUNIT[\"unity\",1]"
                      : angle_unit(crs)) +
            id(p.epsg) + "]";
  }
  return text + "]";
}

// Axes in the order and with the signs that coordinates have here.
std::string wkt2_axes(const Crs& crs) {
  const bool south = crs.method.find("(South Orientated)") != std::string::npos || crs.method == "Krovak" ||
                     crs.method == "Krovak Modified";
  const bool west = south || crs.method.find("(West Orientated)") != std::string::npos;
  return std::string("CS[Cartesian,2],AXIS[") + (west ? "\"westing\",west" : "\"easting\",east") + ",ORDER[1]],AXIS[" +
         (south ? "\"southing\",south" : "\"northing\",north") + ",ORDER[2]]";
}

std::string wkt2_text(const Crs& crs) {
  if (crs.kind == CrsKind::geographic)
    return "GEOGCRS[" + quoted(crs.name) + "," + wkt2_datum(crs) +
           ",CS[ellipsoidal,2],AXIS[\"longitude\",east,ORDER[1]],AXIS[\"latitude\",north,ORDER[2]]," + angle_unit(crs) +
           usage_part(crs) + code_part(crs.code, "ID") + "]";
  if (crs.kind == CrsKind::local)
    return "ENGCRS[" + quoted(crs.name) +
           ",EDATUM[\"unknown\"],CS[Cartesian,2],AXIS[\"x\",unspecified,ORDER[1]],AXIS[\"y\",unspecified,ORDER[2]]," +
           length_unit(crs) + "]";
  const std::string base = crs.geographic_name.empty() ? "unknown" : crs.geographic_name;
  return "PROJCRS[" + quoted(crs.name) + ",BASEGEOGCRS[" + quoted(base) + "," + wkt2_datum(crs) + "," +
         angle_unit(crs) + code_part(crs.geographic_code, "ID") + "]," + wkt2_method(crs) + "," + wkt2_axes(crs) + "," +
         length_unit(crs) + usage_part(crs) + code_part(crs.code, "ID") + "]";
}

}  // namespace

std::string crs_text(const Crs& crs, WktSpelling spelling) {
  if (crs.kind != CrsKind::projected && crs.kind != CrsKind::geographic && crs.kind != CrsKind::local)
    throw CrsError("the " + std::string(kind_name(crs.kind)) + " CRS " + crs.name + " cannot be written as text");
  return spelling == WktSpelling::prj ? prj_text(crs) : spelling == WktSpelling::wkt1 ? wkt1_text(crs) : wkt2_text(crs);
}

}  // namespace civic
