#include "spelling.h"

#include <algorithm>
#include <cctype>
#include <iterator>

namespace civic {
namespace {

using N = ParameterNames;

constexpr MethodSpelling methods[] = {
    {"Albers Equal Area", 9822, "Albers_Conic_Equal_Area", "Albers", N::false_origin, true},
    {"American Polyconic", 9818, "Polyconic", nullptr, N::natural, false},
    {"Azimuthal Equidistant", 1125, "Azimuthal_Equidistant", nullptr, N::natural, true},
    {"Bonne", 9827, "Bonne", nullptr, N::natural, false},
    {"Bonne (South Orientated)", 9828, "Bonne_South_Orientated", nullptr, N::natural, false},
    {"Cassini-Soldner", 9806, "Cassini_Soldner", "Cassini", N::natural, false},
    {"Colombia Urban", 1052, "Colombia_Urban", nullptr, N::urban, false},
    {"Equal Earth", 1078, "Equal_Earth", nullptr, N::natural, false},
    {"Equidistant Conic", 1119, "Equidistant_Conic", nullptr, N::false_origin, true},
    {"Equidistant Cylindrical", 1028, "Equirectangular", "Equidistant_Cylindrical", N::parallel, false},
    {"Gnomonic", 0, "Gnomonic", nullptr, N::natural, false},
    {"Guam Projection", 9831, "Guam_Projection", nullptr, N::natural, false},
    {"Hotine Oblique Mercator (two points)", 0, "Hotine_Oblique_Mercator_Two_Point_Natural_Origin", nullptr, N::centre,
     true},
    {"Hotine Oblique Mercator (variant A)", 9812, "Hotine_Oblique_Mercator",
     "Hotine_Oblique_Mercator_Azimuth_Natural_Origin", N::centre, true},
    {"Hotine Oblique Mercator (variant B)", 9815, "Hotine_Oblique_Mercator_Azimuth_Center", nullptr, N::grid_centre,
     true},
    {"Hyperbolic Cassini-Soldner", 9833, "Hyperbolic_Cassini_Soldner", nullptr, N::natural, false},
    {"Krovak", 9819, "Krovak", nullptr, N::cone, true},
    {"Krovak (North Orientated)", 1041, "Krovak_North_Orientated", "Krovak", N::cone, true},
    {"Krovak Modified", 1042, "Krovak_Modified", nullptr, N::cone, true},
    {"Krovak Modified (North Orientated)", 1043, "Krovak_Modified_North_Orientated", nullptr, N::cone, true},
    {"Laborde Oblique Mercator", 9813, "Laborde_Oblique_Mercator", nullptr, N::centre, true},
    {"Lambert Azimuthal Equal Area", 9820, "Lambert_Azimuthal_Equal_Area", nullptr, N::natural, true},
    {"Lambert Conic Conformal (1SP)", 9801, "Lambert_Conformal_Conic_1SP", "Lambert_Conformal_Conic", N::natural,
     false},
    {"Lambert Conic Conformal (2SP)", 9802, "Lambert_Conformal_Conic_2SP", "Lambert_Conformal_Conic", N::false_origin,
     false},
    {"Lambert Conic Conformal (2SP Belgium)", 9803, "Lambert_Conformal_Conic_2SP_Belgium", nullptr, N::false_origin,
     false},
    {"Lambert Conic Conformal (2SP Michigan)", 1051, "Lambert_Conformal_Conic_2SP_Michigan", nullptr, N::false_origin,
     false},
    {"Lambert Conic Conformal (West Orientated)", 9826, "Lambert_Conformal_Conic_West_Orientated", nullptr, N::natural,
     false},
    {"Lambert Conic Near-Conformal", 9817, "Lambert_Conic_Near_Conformal", nullptr, N::natural, false},
    {"Lambert Cylindrical Equal Area", 9835, "Cylindrical_Equal_Area", nullptr, N::parallel, false},
    {"Mercator (variant A)", 9804, "Mercator_1SP", "Mercator_Variant_A", N::natural, false},
    {"Mercator (variant B)", 9805, "Mercator_2SP", "Mercator", N::parallel, false},
    {"Miller Cylindrical", 0, "Miller_Cylindrical", nullptr, N::natural, true},
    {"Modified Azimuthal Equidistant", 9832, "Modified_Azimuthal_Equidistant", nullptr, N::natural, false},
    {"Mollweide", 0, "Mollweide", nullptr, N::natural, false},
    {"New Zealand Map Grid", 9811, "New_Zealand_Map_Grid", nullptr, N::natural, false},
    {"Oblique Stereographic", 9809, "Oblique_Stereographic", "Double_Stereographic", N::natural, false},
    {"Orthographic", 9840, "Orthographic", nullptr, N::natural, false},
    {"Polar Stereographic (variant A)", 9810, "Polar_Stereographic", "Stereographic", N::natural, false},
    {"Polar Stereographic (variant B)", 9829, "Polar_Stereographic", "Stereographic_North_Pole", N::polar, false},
    {"Polar Stereographic (variant C)", 9830, "Polar_Stereographic_Variant_C", nullptr, N::polar_false_origin, false},
    {"Popular Visualisation Pseudo Mercator", 1024, "Popular_Visualisation_Pseudo_Mercator",
     "Mercator_Auxiliary_Sphere", N::natural, false},
    {"Robinson", 0, "Robinson", nullptr, N::natural, true},
    {"Sinusoidal", 0, "Sinusoidal", nullptr, N::natural, true},
    {"Stereographic", 0, "Stereographic", nullptr, N::natural, false},
    {"Transverse Mercator", 9807, "Transverse_Mercator", nullptr, N::natural, false},
    {"Transverse Mercator (South Orientated)", 9808, "Transverse_Mercator_South_Orientated", nullptr, N::natural,
     false},
    {"Transverse Mercator Zoned Grid System", 9824, "Transverse_Mercator_Zoned_Grid_System", nullptr, N::zoned, false},
    {"Winkel Tripel", 0, "Winkel_Tripel", nullptr, N::parallel, false},
};

// Further words for methods, in lower case.
constexpr std::pair<const char*, const char*> synonyms[] = {
    {"gauss_kruger", "Transverse Mercator"},
    {"equidistant_cylindrical_ellipsoidal", "Equidistant Cylindrical"},
    {"plate_carree", "Equidistant Cylindrical"},
    {"lambert_conformal_conic_belgium", "Lambert Conic Conformal (2SP Belgium)"},
    {"swiss_oblique_cylindrical", "Hotine Oblique Mercator (variant B)"},
    {"swiss_oblique_mercator", "Hotine Oblique Mercator (variant B)"},
    {"oblique_mercator", "Hotine Oblique Mercator (variant B)"},
    {"rectified_skew_orthomorphic_natural_origin", "Hotine Oblique Mercator (variant A)"},
    {"rectified_skew_orthomorphic_center", "Hotine Oblique Mercator (variant B)"},
    {"stereographic_south_pole", "Polar Stereographic (variant B)"},
    {"polar_stereographic_variant_a", "Polar Stereographic (variant A)"},
    {"polar_stereographic_variant_b", "Polar Stereographic (variant B)"},
    {"mercator_variant_b", "Mercator (variant B)"},
    {"albers_equal_area", "Albers Equal Area"},
    {"american_polyconic", "American Polyconic"},
    {"lambert_cylindrical_equal_area", "Lambert Cylindrical Equal Area"},
};

// EPSG's parameters and ours. The first spelling for one of ours within a set of names is the one that is written.
struct Parameter {
  int epsg;
  const char* name;
  const char* ours;
};
constexpr Parameter epsg_parameters[] = {
    {8801, "Latitude of natural origin", "latitude_of_origin"},
    {8802, "Longitude of natural origin", "central_meridian"},
    {8805, "Scale factor at natural origin", "scale_factor"},
    {8806, "False easting", "false_easting"},
    {8807, "False northing", "false_northing"},
    {8811, "Latitude of projection centre", "latitude_of_origin"},
    {8812, "Longitude of projection centre", "central_meridian"},
    {8813, "Azimuth at projection centre", "azimuth"},
    {8814, "Angle from Rectified to Skew Grid", "rectified_grid_angle"},
    {8815, "Scale factor at projection centre", "scale_factor"},
    {8816, "Easting at projection centre", "false_easting"},
    {8817, "Northing at projection centre", "false_northing"},
    {8818, "Latitude of pseudo standard parallel", "pseudo_standard_parallel_1"},
    {8819, "Scale factor on pseudo standard parallel", "scale_factor"},
    {8821, "Latitude of false origin", "latitude_of_origin"},
    {8822, "Longitude of false origin", "central_meridian"},
    {8823, "Latitude of 1st standard parallel", "standard_parallel_1"},
    {8824, "Latitude of 2nd standard parallel", "standard_parallel_2"},
    {8826, "Easting at false origin", "false_easting"},
    {8827, "Northing at false origin", "false_northing"},
    {8830, "Initial longitude", "initial_longitude"},
    {8831, "Zone width", "zone_width"},
    {8832, "Latitude of standard parallel", "standard_parallel_1"},
    {8833, "Longitude of origin", "central_meridian"},
    {1039, "Projection plane origin height", "projection_plane_origin_height"},
    {1036, "Co-latitude of cone axis", "azimuth"},
    {1038, "Ellipsoid scaling factor", "ellipsoid_scaling_factor"},
    {8813, "Azimuth of initial line", "azimuth"},
    {8815, "Scale factor on initial line", "scale_factor"},
};

// Codes of the parameters that one set of names prefers to the plain ones.
const int* preferred_codes(ParameterNames names) {
  static const int natural[] = {8801, 8802, 8805, 8806, 8807, 0}, parallel[] = {8823, 8801, 8802, 8806, 8807, 0},
                   false_origin[] = {8821, 8822, 8823, 8824, 8826, 8827, 0}, polar[] = {8832, 8833, 8806, 8807, 0},
                   polar_false_origin[] = {8832, 8833, 8826, 8827, 0},
                   centre[] = {8811, 8812, 8813, 8814, 8815, 8806, 8807, 0},
                   grid_centre[] = {8811, 8812, 8813, 8814, 8815, 8816, 8817, 0},
                   cone[] = {8811, 8833, 1036, 8818, 8819, 8806, 8807, 0},
                   zoned[] = {8801, 8830, 8831, 8805, 8806, 8807, 0}, urban[] = {8801, 8802, 8806, 8807, 1039, 0};
  static const int* const all[] = {natural, false_origin, parallel, polar, polar_false_origin,
                                   centre,  grid_centre,  cone,     zoned, urban};
  return all[static_cast<int>(names)];
}

// Letters and digits in lower case: EPSG's names with their brackets and dashes as underscored words.
std::string key_of(const std::string& word) {
  std::string out;
  for (unsigned char c : word)
    if (std::isalnum(c)) out += static_cast<char>(std::tolower(c));
  return out;
}

}  // namespace

std::string lower(std::string text) {
  std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
  return text;
}

std::string underscored(const std::string& text) {
  std::string out;
  for (char c : text) {
    if (std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '-' || c == '.' || (c & 0x80))
      out += c;
    else if (!out.empty() && out.back() != '_')
      out += '_';
  }
  while (!out.empty() && out.back() == '_') out.pop_back();
  return out;
}

const MethodSpelling* method_spelling(const std::string& name) {
  for (const MethodSpelling& method : methods)
    if (name == method.name) return &method;
  return nullptr;
}

const MethodSpelling* method_by_word(const std::string& word) {
  const std::string key = key_of(word);
  for (const MethodSpelling& method : methods)
    if (key == key_of(method.name) || key == key_of(method.ogc) ||
        (method.shapefile && key == key_of(method.shapefile)))
      return &method;
  for (const auto& [synonym, name] : synonyms)
    if (key == key_of(synonym)) return method_spelling(name);
  return nullptr;
}

const MethodSpelling* method_by_code(int epsg) {
  if (epsg == 0) return nullptr;
  for (const MethodSpelling& method : methods)
    if (epsg == method.epsg) return &method;
  return nullptr;
}

ParameterSpelling epsg_parameter(ParameterNames names, const std::string& parameter) {
  for (const int* code = preferred_codes(names); *code != 0; ++code)
    for (const Parameter& p : epsg_parameters)
      if (p.epsg == *code && parameter == p.ours) return {p.name, p.epsg};
  for (const Parameter& p : epsg_parameters)
    if (parameter == p.ours) return {p.name, p.epsg};
  return {parameter, 0};
}

std::string parameter_by_epsg(int code, const std::string& name) {
  for (const Parameter& p : epsg_parameters)
    if (code != 0 && p.epsg == code) return p.ours;
  for (const Parameter& p : epsg_parameters)
    if (key_of(name) == key_of(p.name)) return p.ours;
  return lower(underscored(name));
}

}  // namespace civic
