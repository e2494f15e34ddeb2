#include "deflate.h"

#include <zlib.h>

#include <algorithm>

#include "../base/error.h"
#include "../base/progress.h"
#include "unpack_limit.h"

namespace civic {
namespace {

constexpr std::size_t step_size = std::size_t{1} << 26;
constexpr int gzip_wrapper = 16;

uInt step_of(std::size_t left) { return static_cast<uInt>(std::min(left, step_size)); }

// zlib counts in 32 bits, so that long input and output are handed over step by step.
std::vector<std::uint8_t> deflate_with(ByteSpan content, int window_bits) {
  z_stream stream{};
  if (deflateInit2(&stream, 6, Z_DEFLATED, window_bits, 8, Z_DEFAULT_STRATEGY) != Z_OK)
    throw Error("zlib cannot be started");
  std::vector<std::uint8_t> out;
  std::size_t read = 0;
  int state = Z_OK;
  while (state != Z_STREAM_END) {
    const uInt taken = step_of(content.size() - read);
    stream.next_in = const_cast<std::uint8_t*>(content.data() + read);
    stream.avail_in = taken;
    const std::size_t written = out.size();
    out.resize(written + deflateBound(&stream, taken));
    stream.next_out = out.data() + written;
    stream.avail_out = static_cast<uInt>(out.size() - written);
    state = deflate(&stream, read + taken == content.size() ? Z_FINISH : Z_NO_FLUSH);
    read += taken - stream.avail_in;
    out.resize(out.size() - stream.avail_out);
  }
  deflateEnd(&stream);
  return out;
}

}  // namespace

bool inflate_raw(ByteSpan packed, FileContent& content, std::size_t size) {
  z_stream stream{};
  if (inflateInit2(&stream, -MAX_WBITS) != Z_OK) throw Error("zlib cannot be started");
  content = FileContent::allocate(size);
  std::uint8_t spare = 0;  // zlib wants room even where nothing is to come
  std::size_t read = 0, written = 0;
  int state = Z_OK;
  while (state == Z_OK) {
    const uInt in = step_of(packed.size() - read), out = step_of(size - written);
    stream.next_in = const_cast<std::uint8_t*>(packed.data() + read);
    stream.avail_in = in;
    stream.next_out = out > 0 ? content.data() + written : &spare;
    stream.avail_out = out > 0 ? out : 1;
    state = inflate(&stream, Z_NO_FLUSH);
    read += in - stream.avail_in;
    const std::size_t gained = (out > 0 ? out : 1) - stream.avail_out;
    if (out == 0 && gained > 0) break;
    written += gained;
    if (state == Z_OK && in - stream.avail_in == 0 && gained == 0) break;
  }
  inflateEnd(&stream);
  return state == Z_STREAM_END && written == size;
}

std::vector<std::uint8_t> deflate_raw(ByteSpan content) { return deflate_with(content, -MAX_WBITS); }
std::vector<std::uint8_t> gzip(ByteSpan content) { return deflate_with(content, MAX_WBITS + gzip_wrapper); }

bool is_gzip(ByteSpan bytes) { return bytes.size() >= 2 && bytes[0] == 0x1f && bytes[1] == 0x8b; }

FileContent gunzip(ByteSpan packed) {
  z_stream stream{};
  if (inflateInit2(&stream, MAX_WBITS + gzip_wrapper) != Z_OK) throw Error("zlib cannot be started");
  std::vector<std::uint8_t> out;
  std::size_t read = 0, written = 0;
  int state = Z_OK;
  while (true) {
    if (out.size() == written) out.resize(std::max<std::size_t>(2 * written, 65536));
    const uInt in = step_of(packed.size() - read), room = step_of(out.size() - written);
    stream.next_in = const_cast<std::uint8_t*>(packed.data() + read);
    stream.avail_in = in;
    stream.next_out = out.data() + written;
    stream.avail_out = room;
    state = inflate(&stream, Z_NO_FLUSH);
    read += in - stream.avail_in;
    written += room - stream.avail_out;
    if (state == Z_STREAM_END) {
      if (!is_gzip(packed.subspan(read))) break;  // what follows the last member is padding
      inflateReset(&stream);
    } else if (state != Z_OK || (stream.avail_in == in && stream.avail_out == room)) {
      break;
    }
    need_room(written, packed.size());
    check_in(read, packed.size());
  }
  inflateEnd(&stream);
  if (state != Z_STREAM_END)
    throw FormatError("its gzip packing is damaged or cut off near byte " + std::to_string(read));
  FileContent content = FileContent::allocate(written);
  std::copy_n(out.begin(), written, content.data());
  return content;
}

}  // namespace civic
