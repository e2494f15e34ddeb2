#include "plain_data.h"

#include <cstring>

namespace {

class PlainData {
 public:
  PlainData(const std::uint8_t* bytes, std::size_t size) : at_(bytes), end_(bytes + size) {}

  bool is_whole() { return has_header() && item(0) && at_ == end_; }

 private:
  enum Type : std::uint32_t {
    symbol = 1,
    pairs = 2,
    characters = 9,
    logical = 10,
    integer = 13,
    real = 14,
    complex = 15,
    text = 16,
    list = 19,
    raw = 24,
    nothing = 254,
    reference = 255
  };
  static constexpr std::uint32_t has_attributes = 0x200, has_tag = 0x400;
  static constexpr int deepest = 200;

  std::size_t left() const { return static_cast<std::size_t>(end_ - at_); }

  bool skip(std::size_t count, std::size_t size) {
    if (count > left() / size) return false;
    at_ += count * size;
    return true;
  }

  bool number(std::uint32_t& out) {
    if (left() < 4) return false;
    out = static_cast<std::uint32_t>(at_[0]) << 24 | static_cast<std::uint32_t>(at_[1]) << 16 |
          static_cast<std::uint32_t>(at_[2]) << 8 | at_[3];
    at_ += 4;
    return true;
  }

  bool has_header() {
    std::uint32_t version = 0, unused = 0;
    if (left() < 2 || std::memcmp(at_, "X\n", 2) != 0) return false;
    at_ += 2;
    return number(version) && version == 2 && number(unused) && number(unused);
  }

  // Of 2^31 and more in two further numbers.
  bool length(std::size_t& out) {
    std::uint32_t first = 0, high = 0, low = 0;
    if (!number(first)) return false;
    out = first;
    if (first != 0xFFFFFFFF) return first <= 0x7FFFFFFF;
    if (!number(high) || !number(low)) return false;
    out = static_cast<std::size_t>(high) << 32 | low;
    return true;
  }

  bool item(int depth) {
    std::uint32_t flags = 0;
    if (!number(flags)) return false;
    const std::uint32_t type = flags & 0xFF;
    if (type == nothing) return true;
    if (type == pairs) return pair_list(flags, depth);
    return vector(type, depth) && (!(flags & has_attributes) || item(depth + 1));
  }

  bool vector(std::uint32_t type, int depth) {
    std::size_t count = 0;
    if (type == characters || depth > deepest || !length(count)) return false;
    switch (type) {
      case logical:
      case integer:
        return skip(count, 4);
      case real:
        return skip(count, 8);
      case complex:
        return skip(count, 16);
      case raw:
        return skip(count, 1);
      case text:
        for (; count > 0; --count)
          if (!one_text()) return false;
        return true;
      case list:
        for (; count > 0; --count)
          if (!item(depth + 1)) return false;
        return true;
      default:
        return false;
    }
  }

  // Its length is -1 where it is missing.
  bool one_text() {
    std::uint32_t flags = 0, size = 0;
    if (!number(flags) || (flags & 0xFF) != characters || flags & has_attributes || !number(size)) return false;
    return size == 0xFFFFFFFF || skip(size, 1);
  }

  // As attributes are.
  bool pair_list(std::uint32_t flags, int depth) {
    for (;;) {
      if (depth > deepest || (flags & has_attributes) || !(flags & has_tag) || !tag() || !item(depth + 1) ||
          !number(flags))
        return false;
      if ((flags & 0xFF) == nothing) return true;
      if ((flags & 0xFF) != pairs) return false;
    }
  }

  // A symbol, or the number of one that came before.
  bool tag() {
    std::uint32_t flags = 0, index = 0;
    if (!number(flags)) return false;
    if ((flags & 0xFF) == symbol) return one_text();
    return (flags & 0xFF) == reference && (flags >> 8 != 0 || number(index));
  }

  const std::uint8_t* at_;
  const std::uint8_t* end_;
};

}  // namespace

bool is_plain_data(const std::uint8_t* bytes, std::size_t size) { return PlainData(bytes, size).is_whole(); }
