// How methods and their parameters are spelled in the well-known texts: by OGC 01-009 (version 1), by .prj files of
// shapefiles, and by OGC 18-010r11 (version 2) with the EPSG's names and codes.
#pragma once
#include <string>

#include "crs.h"

namespace civic {

// Which EPSG names the parameters of a method bear.
enum class ParameterNames {
  natural,
  false_origin,
  parallel,
  polar,
  polar_false_origin,
  centre,
  grid_centre,
  cone,
  zoned,
  urban
};

struct MethodSpelling {
  const char* name;       // ours: EPSG's, or the name of the field where EPSG has none
  int epsg;               // code of the method, 0 for none
  const char* ogc;        // word in OGC well-known text 1
  const char* shapefile;  // word in a .prj file; null for the OGC word
  ParameterNames names;
  bool centred;  // OGC text 1 calls the origin a center
};

// Null where the method is not in the table.
const MethodSpelling* method_spelling(const std::string& name);
// By its word in either spelling of text 1, or its EPSG name or code in text 2.
const MethodSpelling* method_by_word(const std::string& word);
const MethodSpelling* method_by_code(int epsg);

struct ParameterSpelling {
  std::string name;
  int epsg;
};
// EPSG's name and code of one of our parameters.
ParameterSpelling epsg_parameter(ParameterNames names, const std::string& parameter);
// Our name of an EPSG parameter by code or, where the code is 0 or unknown, by name; the name itself, in lower case
// with underscores, where neither is known.
std::string parameter_by_epsg(int code, const std::string& name);

std::string lower(std::string text);
// Words joined by underscores.
std::string underscored(const std::string& text);

}  // namespace civic
