#include "crs.h"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <set>

namespace civic {

const char* kind_name(CrsKind kind) {
  static const char* const names[] = {"projected", "geographic", "geocentric", "compound", "local"};
  return names[static_cast<int>(kind)];
}

double Crs::parameter(const std::string& wanted, double otherwise) const {
  for (const auto& [name, value] : parameters)
    if (name == wanted) return value;
  return otherwise;
}

namespace {

// The words of a datum's name that tell it apart, in lower case, as a set.
std::set<std::string> telling_words(const std::string& name) {
  std::set<std::string> words;
  std::string word;
  auto finish = [&] {
    static const std::set<std::string> idle{"", "d", "datum", "of", "the", "geodetic", "system", "deg"};
    if (word == "wgs84" || word == "wgs1984") {
      words.insert("wgs");
      word = "1984";
    }
    if (word == "world") word = "wgs";
    if (!idle.count(word)) words.insert(word);
    word.clear();
  };
  for (char c : name) {
    if (std::isalnum(static_cast<unsigned char>(c)))
      word += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    else
      finish();
  }
  finish();
  return words;
}

std::string spelled_out(const std::string& name) {
  // Short names in common use in .prj files, with the registry's name for each.
  static const std::pair<const char*, const char*> aliases[] = {
      {"OSGB 1936", "Ordnance Survey of Great Britain 1936"},
      {"ETRS 1989", "European Terrestrial Reference System 1989"},
      {"European 1950", "European Datum 1950"},
      {"GDA 1994", "Geocentric Datum of Australia 1994"},
      {"GDA 2020", "Geocentric Datum of Australia 2020"},
      {"GDA2020", "Geocentric Datum of Australia 2020"},
      {"NZGD 2000", "New Zealand Geodetic Datum 2000"},
      {"New Zealand 1949", "New Zealand Geodetic Datum 1949"},
      {"SIRGAS 2000", "Sistema de Referencia Geocentrico para las AmericaS 2000"},
      {"JGD 2000", "Japanese Geodetic Datum 2000"},
      {"JGD 2011", "Japanese Geodetic Datum 2011"},
      {"China 2000", "China 2000"},
      {"CH1903", "CH1903"},
  };
  for (const auto& [alias, full] : aliases)
    if (telling_words(alias) == telling_words(name)) return full;
  return name;
}

bool close(double a, double b, double relative) {
  return std::fabs(a - b) <= relative * std::max({1.0, std::fabs(a), std::fabs(b)});
}

bool same_ellipsoid(const Ellipsoid& a, const Ellipsoid& b) {
  return close(a.semi_major, b.semi_major, 1e-10) && close(a.inverse_flattening, b.inverse_flattening, 1e-9);
}

bool same_parameters(const Crs& a, const Crs& b) {
  // A parameter that is left out stands for its neutral value.
  auto covered = [](const Crs& from, const Crs& in) {
    return std::all_of(from.parameters.begin(), from.parameters.end(), [&](const auto& p) {
      return close(p.second, in.parameter(p.first, p.first == "scale_factor" ? 1 : 0), 1e-10);
    });
  };
  return covered(a, b) && covered(b, a);
}

}  // namespace

bool same_datum_name(const std::string& a, const std::string& b) {
  return telling_words(spelled_out(a)) == telling_words(spelled_out(b));
}

bool same_meaning(const Crs& a, const Crs& b) {
  if (a.kind != b.kind) return false;
  if (a.kind == CrsKind::local) return a.name == b.name && close(a.unit_size, b.unit_size, 1e-12);
  return same_ellipsoid(a.datum.ellipsoid, b.datum.ellipsoid) && same_datum_name(a.datum.name, b.datum.name) &&
         close(a.meridian_degrees, b.meridian_degrees, 1e-9) && close(a.unit_size, b.unit_size, 1e-10) &&
         a.method == b.method && same_parameters(a, b);
}

}  // namespace civic
