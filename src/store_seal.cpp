#include "store_seal.h"

#include <R_ext/Altrep.h>

// The column `types` is wrapped in an alternative representation of R's integer vectors that also holds the other
// columns: a store whose columns are others than those is not sealed. Files and other processes get plain integers.
namespace {

R_altrep_class_t sealed_types;

SEXP types_of(SEXP sealed) { return R_altrep_data1(sealed); }
R_xlen_t sealed_length(SEXP sealed) { return XLENGTH(types_of(sealed)); }
void* sealed_data(SEXP sealed, Rboolean) { return INTEGER(types_of(sealed)); }
const void* sealed_data_or_null(SEXP sealed) { return INTEGER(types_of(sealed)); }
int sealed_element(SEXP sealed, R_xlen_t i) { return INTEGER(types_of(sealed))[i]; }

constexpr const char* others[] = {"part_types", "shape_parts", "part_rings", "ring_vertices", "x",
                                  "y",          "z",           "m",          "boxes"};
constexpr R_xlen_t other_count = std::size(others);

}  // namespace

// [[Rcpp::init]]
void register_sealed_types(DllInfo* library) {
  sealed_types = R_make_altinteger_class("sealed_types", "civicatlas", library);
  R_set_altrep_Length_method(sealed_types, sealed_length);
  R_set_altvec_Dataptr_method(sealed_types, sealed_data);
  R_set_altvec_Dataptr_or_null_method(sealed_types, sealed_data_or_null);
  R_set_altinteger_Elt_method(sealed_types, sealed_element);
}

SEXP store_column(const Rcpp::List& store, const char* name) {
  return store.containsElementNamed(name) ? SEXP(store[name]) : R_NilValue;
}

bool is_sealed(const Rcpp::List& store) {
  const SEXP types = store_column(store, "types");
  if (!ALTREP(types) || !R_altrep_inherits(types, sealed_types)) return false;
  const SEXP columns = R_altrep_data2(types);
  for (R_xlen_t i = 0; i < other_count; ++i)
    if (VECTOR_ELT(columns, i) != store_column(store, others[i])) return false;
  return true;
}

// Columns under a seal are copied by R before anything is written into them.
void seal(Rcpp::List& store) {
  Rcpp::List columns(other_count);
  for (R_xlen_t i = 0; i < other_count; ++i) {
    const SEXP column = store_column(store, others[i]);
    MARK_NOT_MUTABLE(column);
    columns[i] = column;
  }
  const SEXP types = store_column(store, "types");
  MARK_NOT_MUTABLE(types);
  const Rcpp::Shield<SEXP> sealed(R_new_altrep(sealed_types, types, columns));
  MARK_NOT_MUTABLE(sealed);
  store["types"] = sealed;
}

SEXP extent_under_seal(const Rcpp::List& store) {
  if (!is_sealed(store)) return R_NilValue;
  return Rf_getAttrib(R_altrep_data2(store_column(store, "types")), Rf_install("extent"));
}

void put_extent_under_seal(const Rcpp::List& store, const Rcpp::NumericVector& extent) {
  if (is_sealed(store)) Rf_setAttrib(R_altrep_data2(store_column(store, "types")), Rf_install("extent"), extent);
}
