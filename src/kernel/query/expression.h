// Conditions and expressions on columns as trees, and the text language that they are written in: OGC CQL2 (21-065r2,
// annex B), with CASE and functions beside it.
#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "../base/error.h"

namespace civic {

// The characters of the text that something stands in, from 0; `end` is the one behind the last.
struct TextSpan {
  std::size_t begin = 0;
  std::size_t end = 0;
};

struct Expression {
  enum class Kind {
    operation,  // of the language, named as in CQL2's JSON: "and", "<=", "like", "isNull", "s_within"; "case" has
                // condition, value, ..., else
    call,       // of any other function, named as written
    column,
    text,
    number,
    truth,      // number is 1 or 0
    missing,    // NULL; an open end of an interval
    date,       // "2026-11-29"
    timestamp,  // "2026-11-29T06:30:00Z"
    interval,   // of two arguments
    geometry,   // well-known text
    list        // of IN
  };
  Kind kind = Kind::missing;
  std::string name;  // of an operation, a function or a column; what a literal holds, of a number as it is written
  double number = 0;
  std::vector<Expression> arguments;
  TextSpan span;
};

// "seats = sum(seats)", or an expression without a name, which its text is.
struct NamedExpression {
  std::string name;
  Expression value;
};

// A text that cannot be read, with the characters that are at fault and what to write instead, if that is known.
struct ExpressionError : ArgumentError {
  ExpressionError(const std::string& what, TextSpan where, std::string instead = "")
      : ArgumentError(what), span(where), remedy(std::move(instead)) {}
  TextSpan span;
  std::string remedy;
};

// All of a text in UTF-8 as one condition, one expression, or several with names, separated by commas. They throw
// ExpressionError.
Expression parse_condition(std::string_view text);
Expression parse_expression(std::string_view text);
std::vector<NamedExpression> parse_named_expressions(std::string_view text);

}  // namespace civic
