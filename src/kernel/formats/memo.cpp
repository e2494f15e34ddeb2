#include "memo.h"

#include <algorithm>

#include "../base/error.h"
#include "../io/unpack_limit.h"

namespace civic {

MemoFile::MemoFile(const InputFile& file, Kind kind) : file_(file), kind_(kind) {
  if (kind == Kind::dbase3 || file.size() < 32) return;
  const FileContent header = file.read(0, 32);
  const std::uint8_t* h = header.bytes().data();
  const std::size_t stated = kind == Kind::foxpro ? std::size_t{h[6]} << 8 | h[7] : little<std::uint16_t>(h + 20);
  if (stated > 0) block_size_ = stated;
}

std::string MemoFile::text(std::size_t block) const {
  const std::size_t size = file_.size();
  if (block > size / block_size_ || block * block_size_ >= size)
    throw FormatError("block " + std::to_string(block) + " lies beyond the memo file's end");
  const std::size_t at = block * block_size_;
  if (kind_ == Kind::dbase3) {
    // The text ends with a mark, not at a stated length.
    std::string text;
    for (std::size_t from = at; from < size; from += block_size_) {
      const FileContent piece = file_.read(from, std::min(block_size_, size - from));
      const ByteSpan bytes = piece.bytes();
      const auto end = std::find(bytes.begin(), bytes.end(), 0x1a);
      need_room(read_ += static_cast<std::size_t>(end - bytes.begin()), size);
      text.append(bytes.begin(), end);
      if (end != bytes.end()) break;
    }
    return text;
  }
  if (size - at < 8) throw FormatError("block " + std::to_string(block) + " of the memo file is cut off");
  const FileContent front = file_.read(at, 8);
  const std::uint8_t* h = front.bytes().data();
  const bool foxpro = kind_ == Kind::foxpro;
  std::size_t length = foxpro ? big32(h + 4) : little<std::uint32_t>(h + 4);
  if (!foxpro) length = length < 8 ? 0 : length - 8;  // dBASE IV counts the eight bytes before the text
  if (length > size - at - 8) throw FormatError("block " + std::to_string(block) + " of the memo file is cut off");
  need_room(read_ += length, size);
  const FileContent content = file_.read(at + 8, length);
  return std::string(content.bytes().begin(), content.bytes().end());
}

}  // namespace civic
