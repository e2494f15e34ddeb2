#include <algorithm>
#include <utility>

#include "cql2_lexer.h"

namespace civic {
namespace {

using Kind = Expression::Kind;

// Of nesting, where a bracket counts for 4, and of terms one after the other: what people write has 20 at most. Each
// takes about 1 kB of stack.
constexpr int most_depth = 400;

constexpr std::string_view relations[] = {"INTERSECTS", "EQUALS",   "DISJOINT", "TOUCHES",
                                          "WITHIN",     "OVERLAPS", "CROSSES",  "CONTAINS"};
constexpr std::string_view intervals[] = {"AFTER",  "BEFORE",       "CONTAINS", "DISJOINT",   "DURING",
                                          "EQUALS", "FINISHEDBY",   "FINISHES", "INTERSECTS", "MEETS",
                                          "METBY",  "OVERLAPPEDBY", "OVERLAPS", "STARTEDBY",  "STARTS"};
constexpr std::string_view shapes[] = {"POINT",           "LINESTRING",   "POLYGON",           "MULTIPOINT",
                                       "MULTILINESTRING", "MULTIPOLYGON", "GEOMETRYCOLLECTION"};
constexpr std::string_view reserved[] = {"AND",  "OR",   "NOT",   "LIKE", "BETWEEN", "IN",   "IS",
                                         "NULL", "TRUE", "FALSE", "WHEN", "THEN",    "ELSE", "END"};
constexpr std::string_view comparisons[] = {"=", "<>", "<", ">", "<=", ">="};
constexpr std::string_view operations_that_hold[] = {"and", "or", "not",  "=",       "<>", "<",      ">",
                                                     "<=",  ">=", "like", "between", "in", "isNull", "case"};

template <class List>
bool among(std::string_view word, const List& list) {
  for (const std::string_view one : list)
    if (one == word) return true;
  return false;
}

std::string changed_case(std::string_view text, char from, char to, int by) {
  std::string out(text);
  for (char& c : out)
    if (c >= from && c <= to) c = static_cast<char>(c + by);
  return out;
}
std::string upper(std::string_view text) { return changed_case(text, 'a', 'z', 'A' - 'a'); }
std::string lower(std::string_view text) { return changed_case(text, 'A', 'Z', 'a' - 'A'); }

Expression made(Kind kind, std::string name, TextSpan span, std::vector<Expression> arguments = {}) {
  Expression out;
  out.kind = kind;
  out.name = std::move(name);
  out.span = span;
  out.arguments = std::move(arguments);
  return out;
}

template <class... Arguments>
Expression operation(std::string name, Arguments&&... arguments) {
  std::vector<Expression> list;
  (list.push_back(std::forward<Arguments>(arguments)), ...);
  const TextSpan span{list.front().span.begin, list.back().span.end};
  return made(Kind::operation, std::move(name), span, std::move(list));
}

bool is_predicate(const std::string& name) {
  return name.starts_with("s_") || name.starts_with("t_") || among(name, operations_that_hold);
}

// Can it be true or false? Columns and functions may be.
bool may_hold(const Expression& one) {
  if (one.kind == Kind::operation) return is_predicate(one.name);
  return one.kind == Kind::truth || one.kind == Kind::column || one.kind == Kind::call;
}

std::string in_words(const Expression& one) {
  switch (one.kind) {
    case Kind::text:
      return "a text";
    case Kind::number:
      return "a number";
    case Kind::missing:
      return "NULL";
    case Kind::date:
      return "a date";
    case Kind::timestamp:
      return "a time";
    case Kind::interval:
      return "an interval";
    case Kind::geometry:
      return "a shape";
    case Kind::operation:
      return is_predicate(one.name) ? "a condition" : "a calculation";
    default:
      return "a value";
  }
}

class Parser {
 public:
  explicit Parser(std::string_view text) : text_(text), tokens_(tokens_of(text)) {}

  Expression condition() {
    Expression out = whole();
    if (!may_hold(out))
      throw ExpressionError("this is " + in_words(out) + ", not a condition", out.span,
                            "Compare it with something: column = value.");
    return out;
  }

  Expression whole() {
    Expression out = either();
    if (now().kind != Token::Kind::end) stray();
    return out;
  }

  std::vector<NamedExpression> several() {
    std::vector<NamedExpression> out;
    do {
      std::string name;
      const bool is_name = now().kind == Token::Kind::word || now().kind == Token::Kind::quoted_word;
      if (is_name && tokens_[at_ + 1].is_sign("=")) {
        name = now().content;
        at_ += 2;
      }
      const std::size_t begin = now().bytes.begin;
      Expression value = either();
      if (name.empty()) name = std::string(text_.substr(begin, tokens_[at_ - 1].bytes.end - begin));
      out.push_back({std::move(name), std::move(value)});
    } while (takes(","));
    if (now().kind != Token::Kind::end) stray();
    return out;
  }

 private:
  // Counts the levels of nesting.
  struct Level {
    explicit Level(Parser& parser) : depth(parser.depth_) {
      if (++depth > most_depth) {
        --depth;
        parser.too_deep();
      }
    }
    ~Level() { --depth; }
    Level(const Level&) = delete;
    Level& operator=(const Level&) = delete;
    int& depth;
  };

  [[noreturn]] void too_deep() const {
    throw ExpressionError("it goes too deep: brackets within brackets, or one sign after the other", now().span);
  }

  const Token& now() const { return tokens_[at_]; }
  const Token& ahead() const { return tokens_[std::min(at_ + 1, tokens_.size() - 1)]; }

  bool takes(std::string_view sign) {
    const bool is = now().is_sign(sign);
    at_ += is;
    return is;
  }

  bool takes_word(std::string_view word) {
    const bool is = now().is_word(word);
    at_ += is;
    return is;
  }

  void need(std::string_view sign, const char* after) {
    if (takes(sign)) return;
    const std::string what = std::string(sign) + " is missing " + after;
    throw ExpressionError(what, now().span, now().kind == Token::Kind::end ? "" : "Before \"" + now().content + "\".");
  }

  [[noreturn]] void stray() const {
    const Token& token = now();
    const std::string shown = "\"" + token.content + "\" stands where AND, OR or the end was expected";
    if (token.is_sign(",")) throw ExpressionError("a comma does not join conditions", token.span, "Write AND or OR.");
    if (token.is_sign("&&") || token.is_sign("&"))
      throw ExpressionError("conditions are joined by words", token.span, "Write AND.");
    if (token.is_sign("||") || token.is_sign("|"))
      throw ExpressionError("conditions are joined by words", token.span, "Write OR.");
    if (token.is_sign("%in%"))
      throw ExpressionError("%in% is of another language", token.span, "Write: column IN ('one', 'two').");
    if (token.is_sign(")")) throw ExpressionError("this bracket closes none", token.span);
    if (token.is_sign(";"))
      throw ExpressionError("a condition has no semicolon", token.span,
                            "Leave it out; join conditions with AND or OR.");
    if (token.is_sign("<") || token.is_sign("<=") || token.is_sign(">") || token.is_sign(">=") || token.is_sign("=") ||
        token.is_sign("<>"))
      throw ExpressionError("a comparison has two sides", token.span,
                            "For a value between others: column BETWEEN 1 AND 5.");
    if (token.kind == Token::Kind::number || token.kind == Token::Kind::text)
      throw ExpressionError("a sign or a word is missing before this value", token.span, "Such as =, <, LIKE, AND.");
    if (token.kind == Token::Kind::word && tokens_[at_ - 1].kind == Token::Kind::word)
      throw ExpressionError(shown, token.span,
                            "A name with blanks in it is put in double quotes: \"" + tokens_[at_ - 1].content + " " +
                                token.content + "\".");
    throw ExpressionError(shown, token.span);
  }

  void need_condition(const Expression& one, const char* word, const Expression* before) const {
    if (may_hold(one)) return;
    std::string remedy = "Compare it with something: column = value.";
    if (before && before->kind == Kind::operation && before->name == "=" && before->arguments[0].kind == Kind::column)
      remedy = "For one of several values: " + before->arguments[0].name + " IN (..., ...).";
    throw ExpressionError(std::string(word) + " joins conditions, and this is " + in_words(one), one.span, remedy);
  }

  // AND and OR take all their arguments at once, as CQL2's JSON does.
  template <class Next>
  Expression joined(const char* word, const char* name, Next next) {
    Expression first = next();
    if (!now().is_word(word)) return first;
    std::vector<Expression> all;
    all.push_back(std::move(first));
    while (takes_word(word)) all.push_back(next());
    for (std::size_t k = 0; k < all.size(); ++k) need_condition(all[k], word, k ? &all[k - 1] : nullptr);
    const TextSpan span{all.front().span.begin, all.back().span.end};
    return made(Kind::operation, name, span, std::move(all));
  }

  Expression either() {
    const Level level(*this);
    return joined("OR", "or", [&] { return both(); });
  }

  Expression both() {
    return joined("AND", "and", [&] { return negated(); });
  }

  Expression negated() {
    const Level level(*this);
    const Token token = now();
    if (token.is_sign("!")) throw ExpressionError("a condition is turned round by a word", token.span, "Write NOT.");
    if (!takes_word("NOT")) return compared();
    Expression inner = negated();
    need_condition(inner, "NOT", nullptr);
    Expression out = operation("not", std::move(inner));
    out.span.begin = token.span.begin;
    return out;
  }

  Expression compared() {
    Expression left = sum();
    if (now().kind == Token::Kind::sign) {
      std::string sign = now().content == "==" ? "=" : now().content == "!=" ? "<>" : now().content;
      if (among(sign, comparisons)) {
        ++at_;
        Expression right = sum();
        if (left.kind == Kind::missing || right.kind == Kind::missing)
          throw ExpressionError("nothing is equal to NULL, which means unknown", {left.span.begin, right.span.end},
                                "Write: column IS NULL.");
        return operation(std::move(sign), std::move(left), std::move(right));
      }
    }
    if (takes_word("IS")) return null_or_not(std::move(left));
    const TextSpan here = now().span;
    const bool turned = takes_word("NOT");
    Expression out;
    if (takes_word("LIKE")) {
      out = like(std::move(left));
    } else if (takes_word("BETWEEN")) {
      out = between(std::move(left));
    } else if (takes_word("IN")) {
      out = within_list(std::move(left));
    } else if (turned) {
      throw ExpressionError("NOT stands before LIKE, BETWEEN or IN, or before a whole condition", here,
                            "NOT column = value, or column <> value.");
    } else {
      return left;
    }
    return turned ? operation("not", std::move(out)) : out;
  }

  Expression null_or_not(Expression left) {
    const bool turned = takes_word("NOT");
    const Token token = now();
    if (!takes_word("NULL"))
      throw ExpressionError("IS goes with NULL or NOT NULL", token.span, "For a value: column = value.");
    Expression out = operation("isNull", std::move(left));
    out.span.end = token.span.end;
    return turned ? operation("not", std::move(out)) : out;
  }

  Expression like(Expression left) {
    Expression pattern = sum();
    const Expression* inner = &pattern;
    while (inner->kind == Kind::operation && (inner->name == "casei" || inner->name == "accenti"))
      inner = &inner->arguments[0];
    if (inner->kind != Kind::text)
      throw ExpressionError("LIKE takes a pattern, a text in single quotes", pattern.span,
                            "% stands for any characters, _ for one: name LIKE 'Reef%'.");
    return operation("like", std::move(left), std::move(pattern));
  }

  Expression between(Expression left) {
    Expression low = sum();
    if (!takes_word("AND"))
      throw ExpressionError("BETWEEN takes two values with AND between them", now().span, "column BETWEEN 1 AND 5.");
    return operation("between", std::move(left), std::move(low), sum());
  }

  Expression within_list(Expression left) {
    const TextSpan begin = now().span;
    if (!takes("(")) throw ExpressionError("IN takes values in brackets", begin, "column IN ('one', 'two').");
    std::vector<Expression> items;
    if (now().is_sign(")")) throw ExpressionError("the list is empty", {begin.begin, now().span.end});
    do items.push_back(sum());
    while (takes(","));
    const std::size_t end = now().span.end;
    need(")", "at the end of the list");
    return operation("in", std::move(left), made(Kind::list, "", {begin.begin, end}, std::move(items)));
  }

  Expression sum() {
    Expression left = term();
    for (int terms = 1; now().is_sign("+") || now().is_sign("-"); ++terms) {
      if (terms > most_depth) too_deep();
      std::string sign = tokens_[at_++].content;
      left = operation(std::move(sign), std::move(left), term());
    }
    return left;
  }

  Expression term() {
    Expression left = power();
    for (int factors = 1; now().is_sign("*") || now().is_sign("/") || now().is_sign("%") || now().is_word("DIV");
         ++factors) {
      if (factors > most_depth) too_deep();
      std::string sign = lower(tokens_[at_++].content);
      left = operation(std::move(sign), std::move(left), power());
    }
    return left;
  }

  // A minus belongs to its number or column: -2 ^ 2 is 4 (annex B, arithmeticFactor).
  Expression power() {
    const Level level(*this);
    Expression left = factor();
    if (!takes("^")) return left;
    return operation("^", std::move(left), power());
  }

  Expression factor() {
    const Level level(*this);
    const std::size_t begin = now().span.begin;
    if (takes("+")) return factor();
    if (!takes("-")) return operand();
    Expression inner = factor();
    if (inner.kind == Kind::number) {
      inner.number = -inner.number;
      inner.name = inner.name[0] == '-' ? inner.name.substr(1) : "-" + inner.name;
      inner.span.begin = begin;
      return inner;
    }
    Expression minus_one = made(Kind::number, "", {begin, begin + 1});
    minus_one.number = -1;
    return operation("*", std::move(minus_one), std::move(inner));
  }

  Expression operand() {
    const Token token = now();
    switch (token.kind) {
      case Token::Kind::number: {
        ++at_;
        Expression out = made(Kind::number, token.content, token.span);
        out.number = token.number;
        return out;
      }
      case Token::Kind::text:
        ++at_;
        return made(Kind::text, token.content, token.span);
      case Token::Kind::quoted_word:
        ++at_;
        return made(Kind::column, token.content, token.span);
      case Token::Kind::word:
        return word(token);
      case Token::Kind::sign:
        if (token.is_sign("(")) return bracketed(token);
        break;
      case Token::Kind::end:
        break;
    }
    if (token.kind == Token::Kind::end)
      throw ExpressionError(at_ ? "it ends where a value or a column was expected" : "it is empty", token.span);
    throw ExpressionError("\"" + token.content + "\" stands where a value or a column was expected", token.span);
  }

  Expression bracketed(const Token& open) {
    ++at_;
    Expression inner = either();
    if (now().is_sign(","))
      throw ExpressionError("a list stands behind IN alone", {open.span.begin, now().span.end},
                            "column IN ('one', 'two').");
    const std::size_t end = now().span.end;
    if (!takes(")")) {
      if (now().kind == Token::Kind::end) throw ExpressionError("this bracket is not closed", open.span);
      stray();
    }
    inner.span = {open.span.begin, end};
    return inner;
  }

  Expression word(const Token& token) {
    const std::string name = upper(token.content);
    if (name == "TRUE" || name == "FALSE") {
      ++at_;
      Expression out = made(Kind::truth, "", token.span);
      out.number = name == "TRUE";
      return out;
    }
    if (name == "NULL") return ++at_, made(Kind::missing, "", token.span);
    if (name == "CASE" && ahead().is_word("WHEN")) return cases(token);
    if (among(name, reserved))
      throw ExpressionError("the word " + name + " stands where a value or a column was expected", token.span,
                            "A column of that name is put in double quotes.");
    if (among(name, shapes) && (ahead().is_sign("(") || ahead().is_word("Z") || ahead().is_word("M") ||
                                ahead().is_word("ZM") || ahead().is_word("EMPTY")))
      return shape(token);
    if (ahead().is_sign("(")) return called(token, name);
    ++at_;
    return made(Kind::column, token.content, token.span);
  }

  // CASE WHEN condition THEN value ... [ELSE value] END
  Expression cases(const Token& token) {
    ++at_;
    std::vector<Expression> parts;
    while (takes_word("WHEN")) {
      parts.push_back(either());
      need_condition(parts.back(), "WHEN", nullptr);
      if (!takes_word("THEN"))
        throw ExpressionError("THEN is missing behind WHEN", now().span,
                              "CASE WHEN condition THEN value ELSE value END.");
      parts.push_back(either());
    }
    parts.push_back(takes_word("ELSE") ? either() : made(Kind::missing, "", now().span));
    const std::size_t end = now().span.end;
    if (!takes_word("END"))
      throw ExpressionError("CASE has no END", token.span, "CASE WHEN condition THEN value ELSE value END.");
    return made(Kind::operation, "case", {token.span.begin, end}, std::move(parts));
  }

  // Well-known text up to the bracket that closes it; what it says is read by whoever uses it.
  Expression shape(const Token& token) {
    ++at_;
    if (now().is_word("Z") || now().is_word("M") || now().is_word("ZM")) ++at_;
    if (now().is_word("EMPTY")) {
      ++at_;
    } else {
      if (!now().is_sign("(")) throw ExpressionError("coordinates in brackets are missing", now().span, "POINT (1 2).");
      int open = 0;
      do {
        if (now().kind == Token::Kind::end) throw ExpressionError("a bracket of this shape is not closed", token.span);
        open += now().is_sign("(") - now().is_sign(")");
        ++at_;
      } while (open);
    }
    const Token& last = tokens_[at_ - 1];
    return made(Kind::geometry, std::string(text_.substr(token.bytes.begin, last.bytes.end - token.bytes.begin)),
                {token.span.begin, last.span.end});
  }

  Expression called(const Token& token, const std::string& name) {
    if (name == "DATE" || name == "TIMESTAMP") return instant(token, name);
    if (name == "INTERVAL") return interval(token);
    at_ += 2;
    std::vector<Expression> arguments;
    if (!now().is_sign(")")) {
      do
        arguments.push_back(now().is_sign("*") && ahead().is_sign(")") ? (++at_, made(Kind::text, "*", now().span))
                                                                       : either());
      while (takes(","));
    }
    const std::size_t end = now().span.end;
    need(")", "behind what a function is given");
    const TextSpan span{token.span.begin, end};
    const std::size_t given = arguments.size();
    if (name == "BBOX") return box(span, arguments);
    const std::string_view kin = std::string_view(name).substr(0, 2),
                           rest = std::string_view(name).substr(std::min<std::size_t>(2, name.size()));
    const bool relates = (kin == "S_" && among(rest, relations)) || (kin == "T_" && among(rest, intervals));
    if (kin == "A_" && (rest == "EQUALS" || rest == "CONTAINS" || rest == "CONTAINEDBY" || rest == "OVERLAPS"))
      throw ExpressionError("columns do not hold arrays here", span);
    const std::size_t takes_arguments = relates ? 2 : name == "CASEI" || name == "ACCENTI" ? 1 : given;
    if (given != takes_arguments)
      throw ExpressionError(
          name + " takes " + std::to_string(takes_arguments) + ", and is given " + std::to_string(given), span);
    if (relates || name == "CASEI" || name == "ACCENTI")
      return made(Kind::operation, lower(name), span, std::move(arguments));
    return made(Kind::call, token.content, span, std::move(arguments));
  }

  // DATE('2026-11-29'); what the text says is checked by whoever uses it.
  Expression instant(const Token& token, const std::string& name) {
    at_ += 2;
    const Token content = now();
    const bool is_date = name == "DATE";
    if (content.kind != Token::Kind::text || !ahead().is_sign(")"))
      throw ExpressionError(name + " takes a text in single quotes", content.span,
                            is_date ? "DATE('2026-11-29')." : "TIMESTAMP('2026-11-29T06:30:00Z').");
    at_ += 2;
    return made(is_date ? Kind::date : Kind::timestamp, content.content, {token.span.begin, tokens_[at_ - 1].span.end});
  }

  Expression interval(const Token& token) {
    at_ += 2;
    std::vector<Expression> ends;
    ends.push_back(end_of_interval());
    need(",", "between the ends of the interval");
    ends.push_back(end_of_interval());
    const std::size_t end = now().span.end;
    need(")", "behind the interval");
    return made(Kind::interval, "", {token.span.begin, end}, std::move(ends));
  }

  // '..' is open.
  Expression end_of_interval() {
    Expression out = either();
    if (out.kind != Kind::text) return out;
    if (out.name == "..") return made(Kind::missing, "", out.span);
    out.kind = out.name.find('T') == std::string::npos ? Kind::date : Kind::timestamp;
    return out;
  }

  // xmin, ymin, xmax, ymax, with or without heights, which are let go; west of a box over the antimeridian lies east of
  // its east.
  Expression box(TextSpan span, const std::vector<Expression>& edges) const {
    for (const Expression& edge : edges)
      if (edge.kind != Kind::number)
        throw ExpressionError("BBOX takes numbers", edge.span, "BBOX(xmin, ymin, xmax, ymax).");
    if (edges.size() != 4 && edges.size() != 6)
      throw ExpressionError("BBOX takes 4 numbers, and is given " + std::to_string(edges.size()), span,
                            "BBOX(xmin, ymin, xmax, ymax).");
    return made(Kind::operation, "bbox", span, edges);
  }

  std::string_view text_;
  std::vector<Token> tokens_;
  std::size_t at_ = 0;
  int depth_ = 0;
};

}  // namespace

Expression parse_condition(std::string_view text) { return Parser(text).condition(); }
Expression parse_expression(std::string_view text) { return Parser(text).whole(); }
std::vector<NamedExpression> parse_named_expressions(std::string_view text) { return Parser(text).several(); }

}  // namespace civic
