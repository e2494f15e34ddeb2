// CQL2 text (OGC 21-065r2, annex B): what is read, and what is said where it cannot be.
#include <catch2/catch.hpp>
#include <cstdlib>
#include <cstring>

#include "kernel/query/expression.h"
#include "kernel/query/like.h"

using namespace civic;

namespace {

using Kind = Expression::Kind;

// A tree as text, with every bracket.
std::string shown(const Expression& one) {
  std::string out;
  switch (one.kind) {
    case Kind::column:
      return one.name;
    case Kind::text:
      return "'" + one.name + "'";
    case Kind::number: {
      std::string digits = std::to_string(one.number);
      digits.erase(digits.find_last_not_of('0') + 1);
      return digits.back() == '.' ? digits.substr(0, digits.size() - 1) : digits;
    }
    case Kind::truth:
      return one.number == 1 ? "true" : "false";
    case Kind::missing:
      return "null";
    case Kind::date:
      return "date:" + one.name;
    case Kind::timestamp:
      return "time:" + one.name;
    case Kind::geometry:
      return "<" + one.name + ">";
    case Kind::interval:
      out = "interval";
      break;
    case Kind::list:
      break;
    case Kind::operation:
      out = one.name;
      break;
    case Kind::call:
      out = "@" + one.name;
      break;
  }
  out += "(";
  for (std::size_t k = 0; k < one.arguments.size(); ++k) out += (k ? " " : "") + shown(one.arguments[k]);
  return out + ")";
}

std::string tree(const std::string& text) { return shown(parse_condition(text)); }

ExpressionError problem_of(const std::string& text) {
  try {
    parse_condition(text);
  } catch (const ExpressionError& problem) {
    return problem;
  }
  FAIL("read: " << text);
  throw;
}

}  // namespace

TEST_CASE("conditions have the precedence of annex B") {
  CHECK(tree("a = 1 AND b = 2 OR c = 3") == "or(and(=(a 1) =(b 2)) =(c 3))");
  CHECK(tree("a = 1 or b = 2 And c = 3 and d = 4") == "or(=(a 1) and(=(b 2) =(c 3) =(d 4)))");
  CHECK(tree("NOT a = 1 AND b = 2") == "and(not(=(a 1)) =(b 2))");
  CHECK(tree("not (a = 1 and b = 2)") == "not(and(=(a 1) =(b 2)))");
  CHECK(tree("a + 2 * b ^ 2 - c / 4 > 0") == ">(-(+(a *(2 ^(b 2))) /(c 4)) 0)");
  CHECK(tree("-2 ^ 2 = 4") == "=(^(-2 2) 4)");
  CHECK(tree("2 ^ 3 ^ 2 = x") == "=(^(2 ^(3 2)) x)");
  CHECK(tree("-a < - (b - 1)") == "<(*(-1 a) *(-1 -(b 1)))");
  CHECK(tree("7 div 2 = 3 AND 7 % 2 = 1") == "and(=(div(7 2) 3) =(%(7 2) 1))");
  CHECK(tree("open") == "open");
  CHECK(tree("(((open)))") == "open");
  CHECK(tree("a <> 1 AND a != 1 AND a == 1") == "and(<>(a 1) <>(a 1) =(a 1))");
  CHECK(tree("(a > 1) = TRUE") == "=(>(a 1) true)");
}

TEST_CASE("predicates, literals and names") {
  CHECK(tree("name LIKE 'Reef%' OR name NOT LIKE CASEI('a_')") == "or(like(name 'Reef%') not(like(name casei('a_'))))");
  CHECK(tree("a BETWEEN 1 AND 2 + 3 AND b NOT BETWEEN -1 AND 1") == "and(between(a 1 +(2 3)) not(between(b -1 1)))");
  CHECK(tree("a IN (1, 2.5, 1e3) AND b NOT IN ('x')") == "and(in(a (1 2.5 1000)) not(in(b ('x'))))");
  CHECK(tree("a IS NULL AND b IS NOT NULL") == "and(isNull(a) not(isNull(b)))");
  CHECK(tree("\"over 65\" = 'it''s' AND x = 'it\\'s'") == "and(=(over 65 'it's') =(x 'it's'))");
  CHECK(tree("\"a\"\"b\" = .5") == "=(a\"b 0.5)");
  CHECK(tree("date > DATE('2026-11-29') AND timestamp < TIMESTAMP('2026-11-29T06:30:00Z')") ==
        "and(>(date date:2026-11-29) <(timestamp time:2026-11-29T06:30:00Z))");
  CHECK(tree("T_DURING(opened, INTERVAL('2026-01-01', '..'))") == "t_during(opened interval(date:2026-01-01 null))");
  CHECK(tree("t_meets(INTERVAL(starts, ends), INTERVAL('2026-01-01T00:00:00Z', '2027-01-01T00:00:00Z'))") ==
        "t_meets(interval(starts ends) interval(time:2026-01-01T00:00:00Z time:2027-01-01T00:00:00Z))");
  CHECK(tree("S_INTERSECTS(geometry, POLYGON ((0 0, 1 0, 1 1, 0 0))) AND s_within(geometry, BBOX(0,1,2,3))") ==
        "and(s_intersects(geometry <POLYGON ((0 0, 1 0, 1 1, 0 0))>) s_within(geometry bbox(0 1 2 3)))");
  CHECK(tree("S_EQUALS(geometry, POINT Z (1 2 3)) OR S_CROSSES(geometry, GEOMETRYCOLLECTION(POINT(1 2), LINESTRING "
             "EMPTY))") ==
        "or(s_equals(geometry <POINT Z (1 2 3)>) s_crosses(geometry <GEOMETRYCOLLECTION(POINT(1 2), LINESTRING "
        "EMPTY)>))");
  CHECK(tree("upper(name) = 'A' AND count(*) > 2") == "and(=(@upper(name) 'A') >(@count('*') 2))");
  CHECK(tree("CASE WHEN a > 1 THEN 'x' WHEN b THEN 'y' ELSE 'z' END = 'x'") == "=(case(>(a 1) 'x' b 'y' 'z') 'x')");
  CHECK(tree("ACCENTI(CASEI(straße)) = ACCENTI(CASEI('Ö'))") == "=(accenti(casei(straße)) accenti(casei('Ö')))");
  CHECK(tree("water:depth.m > 1 AND _x = 1\u00a0AND 名前 = '海'") == "and(>(water:depth.m 1) =(_x 1) =(名前 '海'))");
}

TEST_CASE("expressions with names") {
  const auto several = parse_named_expressions(
      "rooms = count(), seats=sum(seats), \"per 1000\" = 1000 * seats / residents, mean(seats)");
  REQUIRE(several.size() == 4);
  CHECK(several[0].name == "rooms");
  CHECK(shown(several[0].value) == "@count()");
  CHECK(several[2].name == "per 1000");
  CHECK(shown(several[2].value) == "/(*(1000 seats) residents)");
  CHECK(several[3].name == "mean(seats)");
  CHECK(shown(parse_expression("CASE WHEN a THEN 1 END")) == "case(a 1 null)");
}

TEST_CASE("what cannot be read is told with its place and what to write") {
  const auto told = [](const std::string& text, std::size_t begin, std::size_t end, const std::string& what,
                       const std::string& remedy = "") {
    const ExpressionError problem = problem_of(text);
    INFO(text << ": " << problem.what() << " | " << problem.remedy);
    CHECK(problem.span.begin == begin);
    CHECK(problem.span.end == end);
    CHECK(std::string(problem.what()).find(what) != std::string::npos);
    CHECK(problem.remedy.find(remedy) != std::string::npos);
  };
  told("continent = 'Europe', pop > 1e7", 20, 21, "comma", "AND or OR");
  told("a = 1 && b = 2", 6, 8, "words", "AND");
  told("a = 1 || b = 2", 6, 8, "words", "OR");
  told("!a", 0, 1, "word", "NOT");
  told("a %in% ('x')", 2, 6, "another language", "IN");
  told("a = 'x' OR 'y'", 11, 14, "is a text", "a IN (");
  told("a = NULL", 0, 8, "NULL", "IS NULL");
  told("1 < a < 3", 6, 7, "two sides", "BETWEEN");
  told("a = 'x", 4, 5, "closing quote");
  told("(a = 1", 0, 1, "not closed");
  told("a = 1)", 5, 6, "closes none");
  told("a = ", 4, 5, "ends where");
  told("", 0, 1, "empty");
  told("seats + 1", 0, 9, "calculation");
  told("a = \u2018x\u2019", 4, 5, "\u2018", "keyboard");
  told("über = 1 & b", 9, 10, "words");
  told("a LIKE b", 7, 8, "pattern", "Reef");
  told("a IN 'x'", 5, 8, "brackets");
  told("a IN ()", 5, 7, "empty");
  told("a BETWEEN 1, 2", 11, 12, "AND between");
  told("a = 1;", 5, 6, "semicolon");
  told("NOT 5", 4, 5, "is a number");
  told("a NOT = 5", 2, 5, "NOT stands");
  told("big room = 1", 4, 8, "stands where", "\"big room\"");
  told("a = 1 b = 2", 6, 7, "stands where");
  told("a 5", 2, 3, "missing before");
  told("2nd = 5", 0, 2, "digit", "double quotes");
  told("a IS 5", 5, 6, "NULL");
  told("and = 5", 0, 3, "the word AND", "double quotes");
  told("a = DATE(2026)", 9, 13, "single quotes");
  told("BBOX(a, 1, 2, 3)", 5, 6, "numbers");
  told("S_WITHIN(geometry)", 0, 18, "takes 2");
  told("A_CONTAINS(a, b)", 0, 16, "arrays");
  told("a IN (1, 2", 10, 11, ") is missing");
  told("(1, 2) = a", 0, 3, "IN alone");
  told("CASE WHEN a THEN 1 = 1", 0, 4, "END");
  told("a = 1e999", 4, 9, "too large");
}

TEST_CASE("however deep or long, it ends") {
  const auto nested = [](int levels, const std::string& open, const std::string& close) {
    std::string text;
    for (int k = 0; k < levels; ++k) text += open;
    text += "a";
    for (int k = 0; k < levels; ++k) text += close;
    return text;
  };
  CHECK(tree(nested(80, "(", ")")) == "a");
  CHECK_THROWS_AS(parse_condition(nested(100000, "(", ")")), ExpressionError);
  CHECK_THROWS_AS(parse_condition(nested(100000, "NOT ", "")), ExpressionError);
  CHECK_THROWS_AS(parse_condition(nested(100000, "- ", " = 1")), ExpressionError);
  CHECK_THROWS_AS(parse_condition(nested(100000, "1 + ", " = 1")), ExpressionError);
  CHECK_THROWS_AS(parse_condition(nested(100000, "1 ^ ", " = 1")), ExpressionError);
  CHECK_THROWS_AS(parse_condition(nested(100000, "f(", ") = 1")), ExpressionError);
  CHECK(parse_condition(nested(100000, "b OR ", "")).arguments.size() == 100001);
}

namespace {

// The slow obvious way: each % tries all that it may stand for.
bool like_slowly(std::string_view text, std::string_view pattern) {
  if (pattern.empty()) return text.empty();
  if (pattern[0] == '%') {
    for (std::size_t k = 0; k <= text.size(); ++k)
      if (like_slowly(text.substr(k), pattern.substr(1))) return true;
    return false;
  }
  const bool escapes = pattern[0] == '\\' && pattern.size() > 1;
  if (text.empty()) return false;
  if (!escapes && pattern[0] == '_') return like_slowly(text.substr(1), pattern.substr(1));
  return text[0] == pattern[escapes] && like_slowly(text.substr(1), pattern.substr(1 + escapes));
}

std::string random_text(const char* letters, std::size_t most) {
  std::string out;
  for (std::size_t k = static_cast<std::size_t>(std::rand()) % (most + 1); k > 0; --k)
    out += letters[static_cast<std::size_t>(std::rand()) % std::strlen(letters)];
  return out;
}

}  // namespace

TEST_CASE("texts are like patterns as the slow way has it") {
  std::srand(7);
  std::size_t alike = 0;
  for (int k = 0; k < 40000; ++k) {
    const std::string text = random_text("ab%_\\", 9), pattern = random_text("aab%%_\\", 7);
    INFO(text << " LIKE " << pattern);
    const bool is_like = LikePattern(pattern).matches(text);
    alike += is_like;
    REQUIRE(is_like == like_slowly(text, pattern));
  }
  CHECK(alike > 4000);
  CHECK(LikePattern("R_ef").matches("R\u00e9ef"));
  CHECK_FALSE(LikePattern("R_ef").matches("Reeef"));
}

TEST_CASE("a long text with many % is soon answered") {
  const std::string text(2000000, 'a');
  CHECK_FALSE(LikePattern("%a%a%a%a%a%a%b").matches(text));
  CHECK_FALSE(LikePattern("%" + std::string(50000, 'a') + "b%").matches(text));
  CHECK(LikePattern("a%a%_%a").matches(text));
}

TEST_CASE("a text may end in a backslash, and numbers keep their digits") {
  CHECK(shown(parse_condition(R"(t = 'a\\')")) == shown(parse_condition(R"(t = 'a\\' )")));
  CHECK(parse_condition(R"(t = 'a\\')").arguments[1].name == "a\\");
  CHECK(parse_condition(R"(t = 'a\\''b')").arguments[1].name == "a\\'b");
  CHECK(parse_condition(R"(t = 'it\'s')").arguments[1].name == "it's");
  CHECK(parse_condition(R"(t = 'a\\b')").arguments[1].name == R"(a\\b)");
  CHECK(parse_condition("n = -9007199254740993").arguments[1].name == "-9007199254740993");
}
