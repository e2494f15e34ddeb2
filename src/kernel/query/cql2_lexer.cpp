#include "cql2_lexer.h"

#include <algorithm>

#include "../base/portable.h"

namespace civic {
namespace {

char upper(char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c; }
bool is_digit(char c) { return c >= '0' && c <= '9'; }
bool is_letter(char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z'); }
bool is_beyond_ascii(char c) { return static_cast<unsigned char>(c) >= 0x80; }

// What word processors make of quotes, dashes and blanks, and what they stand for.
struct LookAlike {
  std::string_view bytes, means;
};
constexpr LookAlike look_alikes[] = {
    {"\u2018", "'"},  {"\u2019", "'"},  {"\u201a", "'"}, {"\u201c", "\""}, {"\u201d", "\""},
    {"\u201e", "\""}, {"\u00b4", "'"},  {"\u2212", "-"}, {"\u2013", "-"},  {"\u2264", "<="},
    {"\u2265", ">="}, {"\u2260", "<>"}, {"\u00d7", "*"}, {"\u00f7", "/"},
};
constexpr std::string_view wide_blanks[] = {"\u00a0", "\u2003", "\u2009", "\u202f", "\u3000", "\ufeff"};

// Signs of the language, and those of others, which the parser takes for what they mean or explains; longer ones first.
constexpr std::string_view signs[] = {"%in%", "<>", "<=", ">=", "==", "!=", "&&", "||", "|>", "..", "=",  "<", ">",
                                      "+",    "-",  "*",  "/",  "%",  "^",  "(",  ")",  ",",  "!",  "&",  "|", ";",
                                      "[",    "]",  "{",  "}",  "~",  "$",  "@",  "#",  "?",  "`",  "\\", "."};

class Lexer {
 public:
  explicit Lexer(std::string_view text) : text_(text) {}

  std::vector<Token> tokens() {
    std::vector<Token> out;
    while (skip_blanks(), at_ < text_.size()) out.push_back(next());
    out.push_back({Token::Kind::end, "", 0, {characters_, characters_ + 1}, {at_, at_}});
    return out;
  }

 private:
  bool begins(std::string_view with) const { return text_.substr(at_).starts_with(with); }

  // Goes on by so many bytes, counting the characters that they are.
  void advance(std::size_t bytes) {
    const std::size_t end = std::min(text_.size(), at_ + bytes);
    for (; at_ < end; ++at_) characters_ += (static_cast<unsigned char>(text_[at_]) & 0xc0) != 0x80;
  }

  void skip_blanks() {
    while (at_ < text_.size()) {
      const char c = text_[at_];
      if (c == ' ' || (c >= '\t' && c <= '\r')) {
        advance(1);
        continue;
      }
      const auto wide =
          std::find_if(std::begin(wide_blanks), std::end(wide_blanks), [&](auto blank) { return begins(blank); });
      if (wide == std::end(wide_blanks)) return;
      advance(wide->size());
    }
  }

  Token next() {
    for (const LookAlike& one : look_alikes)
      if (begins(one.bytes))
        throw ExpressionError(std::string(one.bytes) + " is no sign of the language", {characters_, characters_ + 1},
                              "Write " + std::string(one.means) + ", as on a keyboard.");
    const char c = text_[at_];
    if (c == '\'') return quoted('\'', Token::Kind::text);
    if (c == '"') return quoted('"', Token::Kind::quoted_word);
    if (is_digit(c) || (c == '.' && at_ + 1 < text_.size() && is_digit(text_[at_ + 1]))) return number();
    if (is_letter(c) || c == '_' || c == ':' || is_beyond_ascii(c)) return word();
    for (const std::string_view sign : signs)
      if (begins(sign)) return token(Token::Kind::sign, sign.size());
    throw ExpressionError("this character is none of the language", {characters_, characters_ + 1});
  }

  Token token(Token::Kind kind, std::size_t bytes) {
    Token out{kind, std::string(text_.substr(at_, bytes)), 0, {characters_, 0}, {at_, at_ + bytes}};
    advance(bytes);
    out.span.end = characters_;
    return out;
  }

  Token word() {
    std::size_t end = at_;
    while (end < text_.size() &&
           (is_letter(text_[end]) || is_digit(text_[end]) || text_[end] == '_' || text_[end] == ':' ||
            text_[end] == '.' || is_beyond_ascii(text_[end])) &&
           !blank_at(end))
      ++end;
    return token(Token::Kind::word, end - at_);
  }

  bool blank_at(std::size_t at) const {
    return std::any_of(std::begin(wide_blanks), std::end(wide_blanks),
                       [&](auto blank) { return text_.substr(at).starts_with(blank); });
  }

  Token number() {
    const char* const begin = text_.data() + at_;
    double value = 0;
    const auto [end, error] = read_double(begin, text_.data() + text_.size(), value);
    if (error != std::errc{})
      throw ExpressionError("this number is too large or too small",
                            {characters_, characters_ + static_cast<std::size_t>(end - begin)});
    Token out = token(Token::Kind::number, static_cast<std::size_t>(end - begin));
    out.number = value;
    if (at_ < text_.size() && (is_letter(text_[at_]) || text_[at_] == '_'))
      throw ExpressionError("a name cannot begin with a digit", {out.span.begin, characters_ + 1},
                            "Put it in double quotes: \"...\".");
    return out;
  }

  // A quote within is written twice, and in texts behind a backslash too; two backslashes before a quote are one, so
  // that a text can end with it.
  Token quoted(char quote, Token::Kind kind) {
    const std::size_t begin = at_, first = characters_;
    std::string content;
    advance(1);
    while (true) {
      if (at_ >= text_.size())
        throw ExpressionError(
            kind == Token::Kind::text ? "this text has no closing quote" : "this name has no closing quote",
            {first, first + 1}, "A quote within quotes is written twice.");
      const char c = text_[at_];
      const char after = at_ + 1 < text_.size() ? text_[at_ + 1] : '\0';
      const std::size_t backslashes = kind == Token::Kind::text ? backslashes_before(quote) : 0;
      if (backslashes > 0) {
        content.append(backslashes / 2, '\\');
        if (backslashes % 2 == 1) content += quote;
        advance(backslashes + backslashes % 2);
      } else if (c == quote && after == quote) {
        content += quote;
        advance(2);
      } else if (c == quote) {
        break;
      } else {
        content += c;
        advance(1);
      }
    }
    advance(1);
    return {kind, std::move(content), 0, {first, characters_}, {begin, at_}};
  }

  // How many stand here with a quote behind them.
  std::size_t backslashes_before(char quote) const {
    std::size_t end = at_;
    while (end < text_.size() && text_[end] == '\\') ++end;
    return end < text_.size() && text_[end] == quote ? end - at_ : 0;
  }

  std::string_view text_;
  std::size_t at_ = 0;          // byte
  std::size_t characters_ = 0;  // before it
};

}  // namespace

bool Token::is_word(std::string_view other) const {
  return kind == Kind::word && std::equal(content.begin(), content.end(), other.begin(), other.end(),
                                          [](char a, char b) { return upper(a) == b; });
}

std::vector<Token> tokens_of(std::string_view text) { return Lexer(text).tokens(); }

}  // namespace civic
