#include "crs.h"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <map>
#include <set>

namespace civic {

const char* kind_name(CrsKind kind) {
  static const char* const names[] = {"projected", "geographic", "geocentric", "compound", "local"};
  return names[static_cast<int>(kind)];
}

double Crs::parameter(std::string_view wanted, double otherwise) const {
  for (const auto& [known, value] : parameters)
    if (known == wanted) return value;
  return otherwise;
}

bool Crs::has_parameter(std::string_view wanted) const {
  return std::any_of(parameters.begin(), parameters.end(), [&](const auto& p) { return p.first == wanted; });
}

namespace {

// A word or number of a name; two digits stand for a year of the last century.
std::string telling_word(const std::string& word) {
  const bool year = word.size() == 2 && std::isdigit(static_cast<unsigned char>(word[0])) && word[0] >= '2';
  return year ? "19" + word : word == "world" ? "wgs" : word;
}

// The words of a datum's name that tell it apart, in lower case, as a set.
std::set<std::string> telling_words(const std::string& name) {
  static const std::set<std::string> idle{"",       "d",        "datum", "of",  "the", "geodetic",
                                          "system", "ensemble", "deg",   "gcs", "and"};
  std::set<std::string> words;
  std::string word;
  auto finish = [&] {
    if (!idle.count(word)) words.insert(telling_word(word));
    word.clear();
  };
  auto is_digit = [](unsigned char c) { return std::isdigit(c) != 0; };
  for (const char c : name) {
    const auto byte = static_cast<unsigned char>(c);
    if (!std::isalnum(byte) && byte < 0x80) {
      finish();
      continue;
    }
    if (!word.empty() && is_digit(byte) != is_digit(static_cast<unsigned char>(word.back()))) finish();
    word += static_cast<char>(std::tolower(byte));
  }
  finish();
  return words;
}

std::string joined_words(const std::string& name) {
  std::string key;
  for (const std::string& word : telling_words(name)) key += word + ' ';
  return key;
}

// Short names in common use in .prj files that share no words with the registry's, which stand second.
const std::map<std::string, std::string>& aliases() {
  static const std::map<std::string, std::string> all = [] {
    static const std::pair<const char*, const char*> names[] = {
        {"OSGB 1936", "Ordnance Survey of Great Britain 1936"},
        {"ETRS 1989", "European Terrestrial Reference System 1989"},
        {"European 1950", "European Datum 1950"},
        {"GDA 1994", "Geocentric Datum of Australia 1994"},
        {"GDA 2020", "Geocentric Datum of Australia 2020"},
        {"NZGD 2000", "New Zealand Geodetic Datum 2000"},
        {"SIRGAS 2000", "Sistema de Referencia Geocentrico para las AmericaS 2000"},
        {"JGD 2000", "Japanese Geodetic Datum 2000"},
        {"JGD 2011", "Japanese Geodetic Datum 2011"},
        {"RGF 1993", "Reseau Geodesique Francais 1993 v1"},
    };
    std::map<std::string, std::string> keys;
    for (const auto& [alias, full] : names) keys[joined_words(alias)] = joined_words(full);
    return keys;
  }();
  return all;
}

bool close(double a, double b, double relative) {
  return std::fabs(a - b) <= relative * std::max({1.0, std::fabs(a), std::fabs(b)});
}

bool same_ellipsoid(const Ellipsoid& a, const Ellipsoid& b) {
  return close(a.semi_major, b.semi_major, 1e-10) && close(a.inverse_flattening, b.inverse_flattening, 1e-9);
}

bool same_parameters(const Crs& a, const Crs& b) {
  // A parameter that is left out stands for its neutral value; two standard parallels may stand in either order.
  auto agree = [](const Crs& from, const Crs& in, bool swapped) {
    return std::all_of(from.parameters.begin(), from.parameters.end(), [&](const auto& p) {
      const std::string_view twin = swapped ? twin_parameter(from.method, p.first) : "";
      return close(p.second, in.parameter(twin.empty() ? p.first : twin, p.first == "scale_factor" ? 1 : 0), 1e-10);
    });
  };
  auto covered = [&](const Crs& from, const Crs& in) { return agree(from, in, false) || agree(from, in, true); };
  return covered(a, b) && covered(b, a);
}

}  // namespace

std::string datum_key(const std::string& name) {
  const std::string key = joined_words(name);
  const auto full = aliases().find(key);
  return full == aliases().end() ? key : full->second;
}

bool names_agree(const std::string& a, const std::string& b) {
  const auto one = telling_words(a), other = telling_words(b);
  if (one.empty() || other.empty()) return false;
  return std::includes(one.begin(), one.end(), other.begin(), other.end()) ||
         std::includes(other.begin(), other.end(), one.begin(), one.end());
}

bool same_datum_name(const std::string& a, const std::string& b) { return a == b || datum_key(a) == datum_key(b); }

std::string_view twin_parameter(std::string_view method, std::string_view parameter) {
  const bool conic = method.starts_with("Lambert Conic Conformal (2SP") || method.starts_with("Albers") ||
                     method.starts_with("Equidistant Conic");
  if (conic && parameter == "standard_parallel_1") return "standard_parallel_2";
  if (conic && parameter == "standard_parallel_2") return "standard_parallel_1";
  return "";
}

bool same_meaning(const Crs& a, const Crs& b) {
  if (a.kind != b.kind) return false;
  if (a.kind == CrsKind::local) return a.name == b.name && close(a.unit_size, b.unit_size, 1e-12);
  return same_ellipsoid(a.datum.ellipsoid, b.datum.ellipsoid) && same_datum_name(a.datum.name, b.datum.name) &&
         close(a.meridian_degrees, b.meridian_degrees, 1e-9) && close(a.unit_size, b.unit_size, 1e-10) &&
         a.method == b.method && same_parameters(a, b);
}

}  // namespace civic
