#include "wkt_crs.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstring>
#include <map>

#include "../error.h"
#include "../shapes/wkt.h"

namespace civic {
namespace {

// One node of the text: KEYWORD["text", 1.5, CHILD[…], word]
struct Node {
  std::string keyword;
  std::vector<std::string> texts;
  std::vector<double> numbers;
  std::vector<Node> children;
  std::size_t position = 0;

  const Node* child(std::string_view wanted) const {
    for (const Node& node : children)
      if (node.keyword == wanted) return &node;
    return nullptr;
  }
};

bool is_word(char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '_'; }

class TextReader {
 public:
  explicit TextReader(std::string_view text) : text_(text) {}

  Node read() {
    Node root = read_node(0);
    skip_space();
    if (at_ < text_.size() && text_[at_] != '\0') fail("text after the end");
    return root;
  }

 private:
  [[noreturn]] void fail(const std::string& what) const {
    throw CrsError("the text of the CRS cannot be read: " + what + " at character " + std::to_string(at_ + 1));
  }
  void skip_space() {
    while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_]))) ++at_;
  }
  char peek() {
    skip_space();
    return at_ < text_.size() ? text_[at_] : '\0';
  }

  Node read_node(int depth) {
    if (depth > 40) fail("nested too deep");
    Node node;
    peek();
    node.position = at_ + 1;
    while (at_ < text_.size() && is_word(text_[at_])) {
      node.keyword += static_cast<char>(std::toupper(static_cast<unsigned char>(text_[at_])));
      ++at_;
    }
    if (node.keyword.empty()) fail("a keyword is missing");
    const char open = peek();
    if (open != '[' && open != '(') {
      if (depth == 0) fail("'[' is missing after " + node.keyword);
      return node;  // a bare word such as NORTH
    }
    do {
      ++at_;
      read_item(node, depth);
    } while (peek() == ',');
    if (peek() != (open == '[' ? ']' : ')')) fail("a bracket is not closed");
    ++at_;
    return node;
  }

  void read_item(Node& node, int depth) {
    const char c = peek();
    if (c == '"') return node.texts.push_back(read_quoted());
    if (c == '-' || c == '+' || c == '.' || (c >= '0' && c <= '9')) return node.numbers.push_back(read_number());
    node.children.push_back(read_node(depth + 1));
  }

  std::string read_quoted() {
    std::string value;
    for (++at_; at_ < text_.size(); ++at_) {
      if (text_[at_] != '"') {
        value += text_[at_];
      } else if (at_ + 1 < text_.size() && text_[at_ + 1] == '"') {
        value += text_[++at_];
      } else {
        ++at_;
        return value;
      }
    }
    fail("a quotation mark is not closed");
  }

  double read_number() {
    if (text_[at_] == '+') ++at_;
    double value = 0;
    const auto [end, problem] = std::from_chars(text_.data() + at_, text_.data() + text_.size(), value);
    if (problem != std::errc()) fail("a number is malformed");
    at_ = end - text_.data();
    return value;
  }

  std::string_view text_;
  std::size_t at_ = 0;
};

std::string lower(std::string text) {
  std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
  return text;
}

std::string first_text(const Node& node) { return node.texts.empty() ? "" : node.texts[0]; }

double first_number(const Node& node) {
  if (node.numbers.empty())
    throw CrsError("the text of the CRS lacks the value of " + node.keyword + " at character " +
                   std::to_string(node.position));
  return node.numbers[0];
}

const Node& required(const Node& node, const char* keyword) {
  const Node* found = node.child(keyword);
  if (!found) throw CrsError("the text of the CRS lacks " + std::string(keyword) + " inside " + node.keyword);
  return *found;
}

std::string stated_code(const Node& node) {
  const Node* authority = node.child("AUTHORITY");
  if (!authority || authority->texts.empty()) return "";
  std::string code = authority->texts.size() > 1  ? authority->texts[1]
                     : authority->numbers.empty() ? ""
                                                  : std::to_string(static_cast<int>(authority->numbers[0]));
  return code.empty() ? "" : authority->texts[0] + ":" + code;
}

// The EPSG method of a spelling; the number of standard parallels tells variants apart.
std::string method_named(const std::string& spelling, const Parameters& parameters) {
  const std::string name = lower(spelling);
  auto has = [&](const char* wanted) {
    return std::any_of(parameters.begin(), parameters.end(), [&](const auto& p) { return p.first == wanted; });
  };
  if (name == "lambert_conformal_conic")
    return has("standard_parallel_2") ? "Lambert Conic Conformal (2SP)" : "Lambert Conic Conformal (1SP)";
  if (name == "mercator") return has("standard_parallel_1") ? "Mercator (variant B)" : "Mercator (variant A)";
  static const std::map<std::string, const char*> methods{
      {"transverse_mercator", "Transverse Mercator"},
      {"gauss_kruger", "Transverse Mercator"},
      {"transverse_mercator_south_orientated", "Transverse Mercator (South Orientated)"},
      {"lambert_conformal_conic_1sp", "Lambert Conic Conformal (1SP)"},
      {"lambert_conformal_conic_2sp", "Lambert Conic Conformal (2SP)"},
      {"lambert_conformal_conic_2sp_belgium", "Lambert Conic Conformal (2SP Belgium)"},
      {"mercator_1sp", "Mercator (variant A)"},
      {"mercator_2sp", "Mercator (variant B)"},
      {"mercator_auxiliary_sphere", "Popular Visualisation Pseudo Mercator"},
      {"popular_visualisation_pseudo_mercator", "Popular Visualisation Pseudo Mercator"},
      {"albers_conic_equal_area", "Albers Equal Area"},
      {"albers", "Albers Equal Area"},
      {"lambert_azimuthal_equal_area", "Lambert Azimuthal Equal Area"},
      {"polar_stereographic", "Polar Stereographic"},
      {"oblique_stereographic", "Oblique Stereographic"},
      {"double_stereographic", "Oblique Stereographic"},
      {"cassini_soldner", "Cassini-Soldner"},
      {"cassini", "Cassini-Soldner"},
      {"hotine_oblique_mercator", "Hotine Oblique Mercator (variant A)"},
      {"hotine_oblique_mercator_azimuth_center", "Hotine Oblique Mercator (variant B)"},
      {"krovak", "Krovak"},
      {"polyconic", "American Polyconic"},
      {"new_zealand_map_grid", "New Zealand Map Grid"},
      {"equirectangular", "Equidistant Cylindrical"},
      {"cylindrical_equal_area", "Lambert Cylindrical Equal Area"},
  };
  const auto known = methods.find(name);
  return known == methods.end() ? spelling : known->second;
}

bool is_length(const std::string& parameter) { return parameter == "false_easting" || parameter == "false_northing"; }
bool is_plain_number(const std::string& parameter) {
  return parameter == "scale_factor" || parameter == "auxiliary_sphere_type";
}

void read_geographic(const Node& node, const Registry& registry, Crs& crs) {
  const Node& datum = required(node, "DATUM");
  const Node& spheroid = required(datum, "SPHEROID");
  if (spheroid.numbers.size() < 2 || !(spheroid.numbers[0] > 0) || spheroid.numbers[1] < 0)
    throw CrsError("the text of the CRS gives no usable ellipsoid at character " + std::to_string(spheroid.position));
  crs.datum.name = first_text(datum);
  crs.datum.ellipsoid = {first_text(spheroid), spheroid.numbers[0], spheroid.numbers[1]};
  if (const auto known = registry.find_datum(crs.datum)) crs.datum = *known;
  if (const Node* shift = datum.child("TOWGS84"); shift && (shift->numbers.size() == 3 || shift->numbers.size() == 7)) {
    DatumShift values{};
    std::copy(shift->numbers.begin(), shift->numbers.end(), values.begin());
    crs.datum.shift = values;
  }
  if (const Node* meridian = node.child("PRIMEM")) {
    crs.meridian = first_text(*meridian);
    crs.meridian_degrees = first_number(*meridian);
  }
  const Node& unit = required(node, "UNIT");
  crs.angular_unit = first_number(unit) * 180 / M_PI;
  // Texts give 0.0174532925199433 for a degree, which is one within its digits.
  for (double exact : {1.0, 0.9})
    if (std::fabs(crs.angular_unit - exact) < 1e-9) crs.angular_unit = exact;
  crs.unit = first_text(unit);
  crs.unit_size = crs.angular_unit;
  crs.name = first_text(node);
  crs.code = stated_code(node);
}

void read_parameters(const Node& node, Crs& crs) {
  static const std::map<std::string, std::string> synonyms{{"central_parallel", "latitude_of_origin"},
                                                           {"longitude_of_origin", "central_meridian"},
                                                           {"xy_plane_rotation", "rectified_grid_angle"}};
  for (const Node& child : node.children) {
    if (child.keyword != "PARAMETER") continue;
    std::string name = lower(first_text(child));
    if (const auto known = synonyms.find(name); known != synonyms.end()) name = known->second;
    const double value = first_number(child);
    crs.parameters.emplace_back(name, is_length(name) || is_plain_number(name) ? value : value * crs.angular_unit);
  }
}

// Drops parameters that say nothing for the method, so that spellings compare equal.
void tidy_parameters(Crs& crs) {
  auto drop = [&](const char* name) { std::erase_if(crs.parameters, [&](const auto& p) { return p.first == name; }); };
  drop("auxiliary_sphere_type");
  if (crs.method == "Popular Visualisation Pseudo Mercator") {
    drop("standard_parallel_1");
    drop("latitude_of_origin");
  }
  if (crs.method == "Lambert Conic Conformal (1SP)") {
    // The shapefile's spelling repeats the latitude of origin as the standard parallel.
    if (crs.parameter("standard_parallel_1", 0) == crs.parameter("latitude_of_origin", 0)) drop("standard_parallel_1");
  }
}

void read_projected(const Node& node, const Registry& registry, Crs& crs) {
  read_geographic(required(node, "GEOGCS"), registry, crs);
  crs.kind = CrsKind::projected;
  crs.geographic_name = crs.name;
  crs.geographic_code = crs.code;
  const Node& unit = required(node, "UNIT");
  crs.unit = first_text(unit);
  crs.unit_size = first_number(unit);
  if (!(crs.unit_size > 0)) throw CrsError("the text of the CRS gives a unit of no size");
  read_parameters(node, crs);
  crs.method = method_named(first_text(required(node, "PROJECTION")), crs.parameters);
  tidy_parameters(crs);
}

}  // namespace

Crs parse_crs_text(std::string_view text, const Registry& registry) {
  Node root = TextReader(text).read();
  if (root.keyword == "COMPD_CS") {
    const std::string name = first_text(root);
    for (const Node& child : root.children)
      if (child.keyword == "PROJCS" || child.keyword == "GEOGCS") {
        Node horizontal = child;
        root = std::move(horizontal);
        break;
      }
  }
  Crs crs;
  if (root.keyword == "PROJCS") {
    read_projected(root, registry, crs);
  } else if (root.keyword == "GEOGCS") {
    read_geographic(root, registry, crs);
  } else if (root.keyword == "LOCAL_CS") {
    crs.kind = CrsKind::local;
    if (const Node* unit = root.child("UNIT")) {
      crs.unit = first_text(*unit);
      crs.unit_size = first_number(*unit);
    }
  } else {
    throw CrsError("the text of the CRS starts with " + root.keyword +
                   ", which is none of PROJCS, GEOGCS, COMPD_CS and "
                   "LOCAL_CS");
  }
  crs.name = first_text(root);
  crs.code = stated_code(root);
  return crs;
}

namespace {

std::string quoted(const std::string& text) { return '"' + text + '"'; }

// A name as the shapefile spells it: words joined by underscores, WGS 84 in full.
std::string underscored(std::string text) {
  if (text.rfind("WGS 84", 0) == 0) text.replace(0, 6, "WGS 1984");
  std::string out;
  for (char c : text) {
    if (is_word(c) || c == '-' || c == '.') {
      out += c;
    } else if (!out.empty() && out.back() != '_') {
      out += '_';
    }
  }
  while (!out.empty() && out.back() == '_') out.pop_back();
  return out;
}

std::string prefixed(const char* prefix, const std::string& text) {
  const std::string name = underscored(text);
  return name.rfind(prefix, 0) == 0 ? name : prefix + name;
}

std::string digits(double value) {
  std::string out;
  write_number(value, -1, out);
  return out.find_first_of(".e") == std::string::npos ? out + ".0" : out;
}

std::string unit_name(const Crs& crs) {
  if (crs.unit == "metre") return "Meter";
  if (crs.unit == "US survey foot") return "Foot_US";
  if (crs.unit == "foot") return "Foot";
  return underscored(crs.unit);
}

std::string geographic_text(const Crs& crs, const std::string& name) {
  const std::string unit = crs.angular_unit == 1 ? "Degree" : crs.angular_unit == 0.9 ? "Grad" : "Unit";
  return "GEOGCS[" + quoted(prefixed("GCS_", name)) + ",DATUM[" + quoted(prefixed("D_", crs.datum.name)) +
         ",SPHEROID[" + quoted(underscored(crs.datum.ellipsoid.name)) + "," + digits(crs.datum.ellipsoid.semi_major) +
         "," + digits(crs.datum.ellipsoid.inverse_flattening) + "]],PRIMEM[" + quoted(underscored(crs.meridian)) + "," +
         digits(crs.meridian_degrees) + "],UNIT[" + quoted(unit) + "," + digits(crs.angular_unit * M_PI / 180) + "]]";
}

// The shapefile's word for a method; others keep their EPSG name, underscored.
std::string method_word(const std::string& method) {
  static const std::map<std::string, const char*> words{
      {"Lambert Conic Conformal (1SP)", "Lambert_Conformal_Conic"},
      {"Lambert Conic Conformal (2SP)", "Lambert_Conformal_Conic"},
      {"Lambert Conic Conformal (2SP Belgium)", "Lambert_Conformal_Conic_2SP_Belgium"},
      {"Mercator (variant A)", "Mercator"},
      {"Mercator (variant B)", "Mercator"},
      {"Popular Visualisation Pseudo Mercator", "Mercator_Auxiliary_Sphere"},
      {"Albers Equal Area", "Albers"},
      {"Cassini-Soldner", "Cassini"},
      {"Hotine Oblique Mercator (variant A)", "Hotine_Oblique_Mercator"},
      {"Hotine Oblique Mercator (variant B)", "Hotine_Oblique_Mercator_Azimuth_Center"},
      {"Oblique Stereographic", "Double_Stereographic"},
      {"American Polyconic", "Polyconic"},
  };
  const auto known = words.find(method);
  return known == words.end() ? underscored(method) : known->second;
}

std::string capitalised(std::string name) {
  bool start = true;
  for (char& c : name) {
    if (start) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    start = c == '_';
  }
  return name;
}

}  // namespace

std::string prj_text(const Crs& crs) {
  if (crs.kind == CrsKind::geographic) return geographic_text(crs, crs.name);
  if (crs.kind == CrsKind::local)
    return "LOCAL_CS[" + quoted(crs.name) + ",UNIT[" + quoted(unit_name(crs)) + "," + digits(crs.unit_size) + "]]";
  if (crs.kind != CrsKind::projected)
    throw CrsError("a .prj file cannot hold the " + std::string(kind_name(crs.kind)) + " CRS " + crs.name);
  std::string text = "PROJCS[" + quoted(underscored(crs.name)) + "," + geographic_text(crs, crs.geographic_name) +
                     ",PROJECTION[" + quoted(method_word(crs.method)) + "]";
  Parameters parameters = crs.parameters;
  if (crs.method == "Lambert Conic Conformal (1SP)")
    parameters.emplace_back("standard_parallel_1", crs.parameter("latitude_of_origin", 0));
  for (const auto& [name, value] : parameters) {
    const bool angle = !is_length(name) && !is_plain_number(name);
    text += ",PARAMETER[" + quoted(capitalised(name)) + "," + digits(angle ? value / crs.angular_unit : value) + "]";
  }
  return text + ",UNIT[" + quoted(unit_name(crs)) + "," + digits(crs.unit_size) + "]]";
}

}  // namespace civic
