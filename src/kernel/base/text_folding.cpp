#include "text_folding.h"

#include <algorithm>
#include <iterator>

namespace civic {
namespace {

struct MarkedLetter {
  char32_t letter, bare;
};
constexpr MarkedLetter marked_letters[] = {
#include "letters_without_marks.inc"
};

struct CodeRange {
  char32_t first, last;
};
// Diacritical marks, and the points of Hebrew and Arabic; data-raw/letters_without_marks.py has the same.
constexpr CodeRange marks[] = {{0x0300, 0x036f}, {0x0591, 0x05bd}, {0x05bf, 0x05bf}, {0x05c1, 0x05c2},
                               {0x05c4, 0x05c5}, {0x05c7, 0x05c7}, {0x064b, 0x065f}, {0x0670, 0x0670},
                               {0x1ab0, 0x1aff}, {0x1dc0, 0x1dff}, {0x20d0, 0x20ff}, {0xfe20, 0xfe2f}};

bool is_mark(char32_t code) {
  return std::any_of(std::begin(marks), std::end(marks),
                     [&](CodeRange range) { return code >= range.first && code <= range.last; });
}

char32_t bare(char32_t code) {
  const auto at = std::lower_bound(std::begin(marked_letters), std::end(marked_letters), code,
                                   [](const MarkedLetter& one, char32_t other) { return one.letter < other; });
  return at != std::end(marked_letters) && at->letter == code ? at->bare : code;
}

// The character at the front of a text and the bytes that it takes; no bytes where these are no UTF-8.
struct Character {
  char32_t code;
  std::size_t bytes;
};

Character front(std::string_view text) {
  const auto byte = [&](std::size_t k) { return static_cast<unsigned char>(text[k]); };
  const unsigned char first = byte(0);
  const std::size_t bytes = first < 0x80   ? 1
                            : first < 0xc2 ? 0
                            : first < 0xe0 ? 2
                            : first < 0xf0 ? 3
                            : first < 0xf5 ? 4
                                           : 0;
  if (bytes == 0 || bytes > text.size()) return {first, 0};
  char32_t code = bytes == 1 ? first : first & (0x7fu >> bytes);
  for (std::size_t k = 1; k < bytes; ++k) {
    if ((byte(k) & 0xc0) != 0x80) return {first, 0};
    code = code << 6 | (byte(k) & 0x3f);
  }
  return {code, bytes};
}

void append(std::string& out, char32_t code) {
  const auto push = [&](char32_t bits) { out += static_cast<char>(bits); };
  if (code < 0x80) return push(code);
  if (code < 0x800) {
    push(0xc0 | code >> 6);
  } else if (code < 0x10000) {
    push(0xe0 | code >> 12);
    push(0x80 | (code >> 6 & 0x3f));
  } else {
    push(0xf0 | code >> 18);
    push(0x80 | (code >> 12 & 0x3f));
    push(0x80 | (code >> 6 & 0x3f));
  }
  push(0x80 | (code & 0x3f));
}

}  // namespace

std::string without_marks(std::string_view text) {
  std::string out;
  out.reserve(text.size());
  while (!text.empty()) {
    const Character one = front(text);
    if (one.bytes == 0)
      out += text[0];
    else if (!is_mark(one.code))
      append(out, bare(one.code));
    text.remove_prefix(std::max<std::size_t>(one.bytes, 1));
  }
  return out;
}

}  // namespace civic
