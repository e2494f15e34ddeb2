#include "bind.h"
#include "kernel/crs/registry.h"
#include "kernel/crs/transform.h"
#include "kernel/crs/wkt_crs.h"
#include "kernel/error.h"

using namespace Rcpp;
using namespace civic;

namespace {

Registry& registry() {
  static Registry instance;
  return instance;
}

SEXP text_or_na(const std::string& text) {
  return text.empty() ? SEXP(CharacterVector::create(NA_STRING)) : SEXP(CharacterVector::create(String(text, CE_UTF8)));
}

std::string text_of(const List& crs, const char* name) {
  const CharacterVector value = crs[name];
  return value.size() == 0 || CharacterVector::is_na(value[0]) ? "" : std::string(Rf_translateCharUTF8(value[0]));
}

List r_crs(const Crs& crs) {
  NumericVector parameters;
  CharacterVector names;
  for (const auto& [name, value] : crs.parameters) {
    parameters.push_back(value);
    names.push_back(name);
  }
  if (parameters.size() > 0) parameters.names() = names;
  RObject shift = R_NilValue, area = R_NilValue;
  if (crs.datum.shift) shift = NumericVector(crs.datum.shift->begin(), crs.datum.shift->end());
  if (crs.area)
    area = List::create(_["south"] = crs.area->south, _["west"] = crs.area->west, _["north"] = crs.area->north,
                        _["east"] = crs.area->east, _["text"] = text_or_na(crs.area->text));
  List ellipsoid =
      List::create(_["name"] = text_or_na(crs.datum.ellipsoid.name), _["semi_major"] = crs.datum.ellipsoid.semi_major,
                   _["inverse_flattening"] = crs.datum.ellipsoid.inverse_flattening);
  return List::create(_["kind"] = kind_name(crs.kind), _["name"] = text_or_na(crs.name),
                      _["code"] = text_or_na(crs.code), _["matched"] = crs.matched,
                      _["datum"] = text_or_na(crs.datum.name), _["ellipsoid"] = ellipsoid, _["shift"] = shift,
                      _["shift_accuracy"] = crs.datum.shift_accuracy, _["wants_grid"] = crs.datum.wants_grid,
                      _["meridian"] = crs.meridian, _["meridian_degrees"] = crs.meridian_degrees, _["unit"] = crs.unit,
                      _["unit_size"] = crs.unit_size, _["geographic_name"] = text_or_na(crs.geographic_name),
                      _["geographic_code"] = text_or_na(crs.geographic_code), _["angular_unit"] = crs.angular_unit,
                      _["method"] = text_or_na(crs.method), _["parameters"] = parameters, _["area"] = area);
}

CrsKind kind_named(const std::string& name) {
  for (int i = 0; i <= static_cast<int>(CrsKind::local); ++i)
    if (name == kind_name(static_cast<CrsKind>(i))) return static_cast<CrsKind>(i);
  throw ArgumentError("unknown kind of CRS: " + name);
}

Crs kernel_crs(const List& r) {
  Crs crs;
  crs.kind = kind_named(text_of(r, "kind"));
  crs.name = text_of(r, "name");
  crs.code = text_of(r, "code");
  crs.datum.name = text_of(r, "datum");
  const List ellipsoid = r["ellipsoid"];
  crs.datum.ellipsoid = {text_of(ellipsoid, "name"), as<double>(ellipsoid["semi_major"]),
                         as<double>(ellipsoid["inverse_flattening"])};
  if (!Rf_isNull(r["shift"])) {
    const NumericVector shift = r["shift"];
    DatumShift values{};
    std::copy_n(shift.begin(), std::min<std::size_t>(shift.size(), values.size()), values.begin());
    crs.datum.shift = values;
  }
  crs.datum.shift_accuracy = as<double>(r["shift_accuracy"]);
  crs.meridian = text_of(r, "meridian");
  crs.meridian_degrees = as<double>(r["meridian_degrees"]);
  crs.unit = text_of(r, "unit");
  crs.unit_size = as<double>(r["unit_size"]);
  crs.geographic_name = text_of(r, "geographic_name");
  crs.geographic_code = text_of(r, "geographic_code");
  crs.angular_unit = as<double>(r["angular_unit"]);
  crs.method = text_of(r, "method");
  const NumericVector parameters = r["parameters"];
  if (parameters.size() > 0) {
    const CharacterVector names = parameters.names();
    for (R_xlen_t i = 0; i < parameters.size(); ++i) crs.parameters.emplace_back(std::string(names[i]), parameters[i]);
  }
  return crs;
}

}  // namespace

// [[Rcpp::export]]
void core_load_registry(std::string path) {
  if (registry().size() == 0) registry() = Registry::load(path);
}

// [[Rcpp::export]]
SEXP core_crs_find(int code) {
  const auto crs = registry().find(code);
  return crs ? SEXP(r_crs(*crs)) : R_NilValue;
}

// [[Rcpp::export]]
IntegerVector core_codes_near(int code, int count) {
  auto codes = registry().codes_near(code, count);
  return r_vector(codes);
}

// A CRS from well-known text; where the text states no code, the one that means the same, marked as a match.
// [[Rcpp::export]]
List core_crs_parse(std::string text) {
  Crs crs = parse_crs_text(text, registry());
  const bool local = crs.kind == CrsKind::local;
  if (const int code = crs.code.empty() && !local ? registry().match(crs) : 0; code > 0) {
    const std::string name = crs.name;
    crs = *registry().find(code);
    crs.matched = true;
  }
  return r_crs(crs);
}

// [[Rcpp::export]]
bool core_crs_same(List a, List b) { return same_meaning(kernel_crs(a), kernel_crs(b)); }

// [[Rcpp::export]]
std::string core_prj_text(List crs) { return prj_text(kernel_crs(crs)); }

// The rows on another CRS, in a store of their own. Rows with a vertex outside a domain become missing and are
// listed.
// [[Rcpp::export]]
List core_reproject(IntegerVector handles, List store, List from, List to) {
  const ShapeRows rows = shape_rows(handles, store);
  const Transform transform(kernel_crs(from), kernel_crs(to));
  std::vector<int> fresh;
  StoreBuffer out = gather({&rows, 1}, fresh, NA_INTEGER);
  const std::vector<char> failed = transform.apply(out);
  IntegerVector lost;
  for (std::size_t i = 0; i < fresh.size(); ++i) {
    if (fresh[i] == NA_INTEGER || !failed[fresh[i] - 1]) continue;
    fresh[i] = NA_INTEGER;
    lost.push_back(static_cast<int>(i) + 1);
  }
  return List::create(_["store"] = r_store(out), _["handles"] = r_vector(fresh), _["lost"] = lost,
                      _["accuracy"] = transform.stated_accuracy(),
                      _["steps"] = CharacterVector(transform.steps().begin(), transform.steps().end()));
}
