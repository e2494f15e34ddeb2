// Letters without their marks: accents, cedillas, points.
#pragma once
#include <string>
#include <string_view>

namespace civic {

// The text, in UTF-8, with each letter that the Unicode Character Database decomposes into a letter and marks as that
// letter, and without marks that stand for themselves. What is no UTF-8 stays as it is.
std::string without_marks(std::string_view text);

}  // namespace civic
