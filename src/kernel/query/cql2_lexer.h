// The words of CQL2 text (21-065r2, annex B).
#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "expression.h"

namespace civic {

struct Token {
  enum class Kind { word, quoted_word, text, number, sign, end };
  Kind kind = Kind::end;
  std::string content;  // of a text without its quotes; a word or sign as written
  double number = 0;
  TextSpan span;  // in characters
  TextSpan bytes;

  bool is_sign(std::string_view sign) const { return kind == Kind::sign && content == sign; }
  bool is_word(std::string_view upper) const;  // in whatever case, without quotes
};

// The last token is the end of the text. Throws ExpressionError for characters that no token begins with and quotes
// without an end.
std::vector<Token> tokens_of(std::string_view text);

}  // namespace civic
