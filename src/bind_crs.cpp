#include "bind_crs.h"

#include "bind.h"
#include "kernel/base/error.h"
#include "kernel/crs/grid_shift.h"
#include "kernel/crs/registry.h"
#include "kernel/crs/reproject.h"
#include "kernel/crs/wkt_crs.h"

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

CrsKind kind_named(const std::string& name) {
  for (int i = 0; i <= static_cast<int>(CrsKind::local); ++i)
    if (name == kind_name(static_cast<CrsKind>(i))) return static_cast<CrsKind>(i);
  throw ArgumentError("unknown kind of CRS: " + name);
}

}  // namespace

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
                      _["method"] = text_or_na(crs.method), _["parameters"] = parameters, _["area"] = area,
                      _["has_heights"] = crs.has_heights);
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
  crs.datum.wants_grid = as<bool>(r["wants_grid"]);
  crs.meridian = text_of(r, "meridian");
  crs.meridian_degrees = as<double>(r["meridian_degrees"]);
  crs.unit = text_of(r, "unit");
  crs.unit_size = as<double>(r["unit_size"]);
  crs.geographic_name = text_of(r, "geographic_name");
  crs.geographic_code = text_of(r, "geographic_code");
  crs.angular_unit = as<double>(r["angular_unit"]);
  crs.method = text_of(r, "method");
  if (!Rf_isNull(r["area"])) {
    const List area = r["area"];
    crs.area = AreaOfUse{as<double>(area["south"]), as<double>(area["west"]), as<double>(area["north"]),
                         as<double>(area["east"]), text_of(area, "text")};
  }
  const NumericVector parameters = r["parameters"];
  if (parameters.size() > 0) {
    const CharacterVector names = parameters.names();
    for (R_xlen_t i = 0; i < parameters.size(); ++i) crs.parameters.emplace_back(std::string(names[i]), parameters[i]);
  }
  return crs;
}

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

// Spellings: "prj", "wkt1" and "wkt2".
// [[Rcpp::export]]
std::string core_crs_text(List crs, std::string spelling) {
  return crs_text(kernel_crs(crs), spelling == "prj"    ? WktSpelling::prj
                                   : spelling == "wkt1" ? WktSpelling::wkt1
                                                        : WktSpelling::wkt2);
}

// Code, kind, name, area of use, method and unit of every row of the registry.
// [[Rcpp::export]]
List core_crs_table() {
  const std::vector<int> codes = registry().codes();
  const std::size_t n = codes.size();
  IntegerVector code(n);
  CharacterVector kind(n), name(n), area(n), method(n), unit(n), datum(n);
  NumericMatrix box(static_cast<int>(n), 4);
  LogicalVector has_heights(n);
  for (std::size_t i = 0; i < n; ++i) {
    code[i] = codes[i];
    std::optional<Crs> crs;
    try {
      crs = registry().find(codes[i]);
    } catch (const CrsError&) {  // a compound whose parts the registry lacks
      code[i] = NA_INTEGER;
      continue;
    }
    kind[i] = kind_name(crs->kind);
    name[i] = String(crs->name, CE_UTF8);
    method[i] = crs->method;
    unit[i] = String(crs->unit, CE_UTF8);
    datum[i] = String(crs->datum.name, CE_UTF8);
    area[i] = crs->area ? String(crs->area->text, CE_UTF8) : String(NA_STRING);
    has_heights[i] = crs->has_heights;
    const AreaOfUse use = crs->area.value_or(AreaOfUse{});
    const double edges[] = {use.west, use.south, use.east, use.north};
    for (int edge = 0; edge < 4; ++edge) box(static_cast<int>(i), edge) = edges[edge];
  }
  return List::create(_["code"] = code, _["kind"] = kind, _["name"] = name, _["unit"] = unit, _["method"] = method,
                      _["datum"] = datum, _["area"] = area, _["box"] = box, _["has_heights"] = has_heights);
}

// Coordinates on another CRS; NaN outside a domain.
// [[Rcpp::export]]
List core_transform_points(NumericVector x, NumericVector y, List from, List to) {
  if (x.size() != y.size()) stop("x and y differ in length");
  const Transform transform(kernel_crs(from), kernel_crs(to));
  NumericVector to_x = clone(x), to_y = clone(y);
  transform.apply(to_x.begin(), to_y.begin(), to_x.size());
  return List::create(_["x"] = to_x, _["y"] = to_y);
}

using Grid = std::shared_ptr<const GridShift>;

// An NTv2 grid file, kept open for reproject_to().
// [[Rcpp::export]]
SEXP core_read_grid(RObject source, std::string name) {
  SourceFile file(source);
  return XPtr<Grid>(new Grid(GridShift::read(file.padded(), name)));
}

// The rows on another CRS, in a store of their own. Rows with a vertex outside a domain become missing and are
// listed.
// [[Rcpp::export]]
List core_reproject(IntegerVector handles, List store, List from, List to, List grids, double tolerance) {
  const ShapeRows rows = shape_rows(handles, store);
  Transform::Grids shifts;
  for (R_xlen_t i = 0; i < grids.size(); ++i) shifts.push_back(*XPtr<Grid>(SEXP(grids[i])));
  const Crs start = kernel_crs(from), end = kernel_crs(to);
  const Transform transform(start, end, shifts);
  ReprojectOptions options;
  options.tolerance = tolerance;
  options.missing = NA_INTEGER;
  Reprojected out = reproject(rows, start, end, transform, options);
  for (int& row : out.lost) ++row;
  CharacterVector steps;
  NumericVector accuracies;
  for (const TransformStep& step : transform.steps()) {
    steps.push_back(String(step.text, CE_UTF8));
    accuracies.push_back(step.accuracy);
  }
  return List::create(_["store"] = r_store(out.store), _["handles"] = r_vector(out.handles), _["lost"] = wrap(out.lost),
                      _["cut"] = static_cast<double>(out.cut), _["added"] = static_cast<double>(out.added),
                      _["accuracy"] = transform.stated_accuracy(), _["lacks_grid"] = transform.lacks_grid(),
                      _["beyond_grids"] = static_cast<double>(transform.beyond_grids()), _["steps"] = steps,
                      _["accuracies"] = accuracies);
}
