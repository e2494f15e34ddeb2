// Texts that are like a pattern of CQL2 (OGC 21-065r2, section 7.2.1): % stands for any characters, _ for one, and a
// backslash before them for themselves.
#pragma once
#include <string>
#include <string_view>
#include <vector>

namespace civic {

class LikePattern {
 public:
  // Both in UTF-8.
  explicit LikePattern(std::string_view pattern);

  // In time that grows with the length of the text; where a piece between two % has a _, with that of the piece too.
  bool matches(std::string_view text) const;

 private:
  // What stands between two %: stretches of plain characters, with a _ between one and the next.
  struct Piece {
    std::vector<std::string> stretches{1};
    std::vector<std::size_t> fallback;  // of the only stretch, after Knuth, Morris and Pratt (1977)
  };
  std::vector<Piece> pieces_{1};

  // Where the piece ends that begins at a byte, and where the first one ends behind it; npos where there is none.
  static std::size_t end_at(const Piece& piece, std::string_view text, std::size_t from);
  static std::size_t end_of_first(const Piece& piece, std::string_view text, std::size_t from);
  bool last_matches(std::string_view text, std::size_t from) const;
};

}  // namespace civic
