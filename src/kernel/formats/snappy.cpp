#include "snappy.h"

#include <cstring>

#include "../base/error.h"

namespace civic {
namespace {

[[noreturn]] void damaged() { throw FormatError("a page packed by Snappy is damaged"); }

// The bytes behind a place, one after the other.
class Packed {
 public:
  explicit Packed(ByteSpan bytes) : bytes_(bytes) {}
  bool empty() const { return at_ == bytes_.size(); }
  std::size_t number(std::size_t size) {
    const std::uint8_t* from = take(size);
    std::size_t out = 0;
    for (std::size_t i = 0; i < size; ++i) out |= std::size_t{from[i]} << 8 * i;
    return out;
  }
  const std::uint8_t* take(std::size_t size) {
    if (size > bytes_.size() - at_) damaged();
    at_ += size;
    return bytes_.data() + at_ - size;
  }

 private:
  ByteSpan bytes_;
  std::size_t at_ = 0;
};

}  // namespace

FileContent unpack_snappy(ByteSpan packed, std::size_t size) {
  if (size > 64 * packed.size()) damaged();  // three bytes copy 64 at most
  Packed in(packed);
  std::size_t announced = 0;
  for (unsigned shift = 0;; shift += 7) {
    const std::size_t byte = in.number(1);
    if (shift > 28) damaged();
    announced |= (byte & 127) << shift;
    if (byte < 128) break;
  }
  if (announced != size) damaged();
  FileContent content = FileContent::allocate(size);
  std::uint8_t* const out = content.data();
  std::size_t at = 0;
  while (!in.empty()) {
    const std::size_t tag = in.number(1);
    std::size_t length = tag >> 2;
    if ((tag & 3) == 0) {
      length = (length < 60 ? length : in.number(length - 59)) + 1;
      if (length > size - at) damaged();
      std::memcpy(out + at, in.take(length), length);
      at += length;
      continue;
    }
    std::size_t back = 0;
    if ((tag & 3) == 1) {
      length = (length & 7) + 4;
      back = (tag >> 5) << 8 | in.number(1);
    } else {
      length += 1;
      back = in.number((tag & 3) == 2 ? 2 : 4);
    }
    if (back == 0 || back > at || length > size - at) damaged();
    for (const std::size_t end = at + length; at < end; ++at) out[at] = out[at - back];  // may overlap
  }
  if (at != size) damaged();
  return content;
}

}  // namespace civic
