#include "bind.h"
#include "kernel/base/text_folding.h"
#include "kernel/query/expression.h"

using namespace Rcpp;
using namespace civic;

namespace {

String in_utf8(const std::string& text) { return String(text, CE_UTF8); }

constexpr const char* kinds[] = {"operation", "call", "column",    "text",     "number",   "truth",
                                 "missing",   "date", "timestamp", "interval", "geometry", "list"};

// kind, value, args and at, the first and last character from 1.
List as_list(const Expression& one) {
  List arguments(one.arguments.size());
  for (std::size_t k = 0; k < one.arguments.size(); ++k)
    arguments[static_cast<R_xlen_t>(k)] = as_list(one.arguments[k]);
  RObject value = one.kind == Expression::Kind::number  ? RObject(wrap(one.number))
                  : one.kind == Expression::Kind::truth ? RObject(wrap(one.number != 0))
                                                        : RObject(wrap(in_utf8(one.name)));
  return List::create(
      Named("kind") = kinds[static_cast<int>(one.kind)], Named("value") = value, Named("args") = arguments,
      Named("at") = IntegerVector::create(static_cast<int>(one.span.begin) + 1, static_cast<int>(one.span.end)));
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
