#include "bind.h"
#include "kernel/base/text_folding.h"
#include "kernel/query/expression.h"
#include "kernel/query/like.h"

using namespace Rcpp;
using namespace civic;

namespace {

String in_utf8(const std::string& text) { return String(text, CE_UTF8); }

constexpr const char* kinds[] = {"operation", "call", "column",    "text",     "number",   "truth",
                                 "missing",   "date", "timestamp", "interval", "geometry", "list"};

// Whole numbers from 2^53 on are told from their neighbours by their digits alone.
bool is_beyond_doubles(const Expression& one) {
  return one.kind == Expression::Kind::number && std::fabs(one.number) >= 9007199254740992.0 &&
         one.name.find_first_not_of("-0123456789") == std::string::npos;
}

// kind, value, args and at, the first and last character from 1; of whole numbers from 2^53 on also their `digits`.
List as_list(const Expression& one) {
  List arguments(one.arguments.size());
  for (std::size_t k = 0; k < one.arguments.size(); ++k)
    arguments[static_cast<R_xlen_t>(k)] = as_list(one.arguments[k]);
  RObject value = one.kind == Expression::Kind::number  ? RObject(wrap(one.number))
                  : one.kind == Expression::Kind::truth ? RObject(wrap(one.number != 0))
                                                        : RObject(wrap(in_utf8(one.name)));
  const IntegerVector at = IntegerVector::create(static_cast<int>(one.span.begin) + 1, static_cast<int>(one.span.end));
  List out = List::create(Named("kind") = kinds[static_cast<int>(one.kind)], Named("value") = value,
                          Named("args") = arguments, Named("at") = at);
  if (is_beyond_doubles(one)) out["digits"] = in_utf8(one.name);
  return out;
}

}  // namespace

// `form`: a "condition", an "expression" or "named" expressions. A list of `tree`, that of the text or a list of trees
// by name; where it cannot be read, of `problem`, `at` and `remedy`.
// [[Rcpp::export(rng = false)]]
List core_parse_expression(const std::string& text, const std::string& form) {
  try {
    if (form == "condition") return List::create(Named("tree") = as_list(parse_condition(text)));
    if (form == "expression") return List::create(Named("tree") = as_list(parse_expression(text)));
    const std::vector<NamedExpression> all = parse_named_expressions(text);
    List out(all.size());
    CharacterVector names(all.size());
    for (std::size_t k = 0; k < all.size(); ++k) {
      out[static_cast<R_xlen_t>(k)] = as_list(all[k].value);
      names[static_cast<R_xlen_t>(k)] = in_utf8(all[k].name);
    }
    out.names() = names;
    return List::create(Named("tree") = out);
  } catch (const ExpressionError& problem) {
    return List::create(Named("problem") = in_utf8(problem.what()), Named("remedy") = in_utf8(problem.remedy),
                        Named("at") = IntegerVector::create(static_cast<int>(problem.span.begin) + 1,
                                                            static_cast<int>(problem.span.end)));
  }
}

// [[Rcpp::export(rng = false)]]
CharacterVector core_without_marks(const CharacterVector& texts) {
  CharacterVector out(texts.size());
  for (R_xlen_t k = 0; k < texts.size(); ++k)
    out[k] = CharacterVector::is_na(texts[k])
                 ? NA_STRING
                 : SEXP(in_utf8(without_marks(std::string_view(CHAR(texts[k])))).get_sexp());
  return out;
}

// [[Rcpp::export(rng = false)]]
LogicalVector core_is_like(const CharacterVector& texts, const std::string& pattern) {
  const LikePattern like(pattern);
  LogicalVector out(texts.size());
  for (R_xlen_t k = 0; k < texts.size(); ++k)
    out[k] = CharacterVector::is_na(texts[k]) ? NA_LOGICAL : like.matches(CHAR(texts[k]));
  return out;
}
