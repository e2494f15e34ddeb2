#include "zip.h"

#include <zlib.h>

#include <algorithm>

#include "../error.h"

namespace civic {
namespace {

constexpr std::uint32_t entry_mark = 0x04034b50, directory_mark = 0x02014b50, end_mark = 0x06054b50;
constexpr std::size_t entry_header = 30, directory_header = 46, end_header = 22;

std::size_t find_end(ByteSpan archive) {
  if (archive.size() >= end_header) {
    const std::size_t last = archive.size() - end_header, first = last > 65535 ? last - 65535 : 0;
    for (std::size_t at = last + 1; at-- > first;)
      if (little<std::uint32_t>(archive.data() + at) == end_mark) return at;
  }
  throw FormatError("it is no zip archive, or its end is cut off");
}

std::uint32_t checksum_of(ByteSpan content) {
  std::uint32_t sum = 0;
  for (std::size_t at = 0; at < content.size();) {
    const std::size_t step = std::min<std::size_t>(content.size() - at, 1u << 30);
    sum = static_cast<std::uint32_t>(crc32(sum, content.data() + at, static_cast<uInt>(step)));
    at += step;
  }
  return sum;
}

}  // namespace

ZipReader::ZipReader(ByteSpan archive) : archive_(archive) {
  const std::size_t end = find_end(archive);
  const std::size_t count = little<std::uint16_t>(archive.data() + end + 10);
  std::size_t at = little<std::uint32_t>(archive.data() + end + 16);
  for (std::size_t i = 0; i < count; ++i) {
    if (at + directory_header > archive.size() || little<std::uint32_t>(archive.data() + at) != directory_mark)
      throw FormatError("the zip archive's directory is damaged (byte " + std::to_string(at) + ")");
    const std::uint8_t* e = archive.data() + at;
    const std::size_t name = little<std::uint16_t>(e + 28), extra = little<std::uint16_t>(e + 30),
                      comment = little<std::uint16_t>(e + 32);
    if (at + directory_header + name + extra + comment > archive.size())
      throw FormatError("the zip archive's directory is cut off (byte " + std::to_string(at) + ")");
    Entry entry{std::string(reinterpret_cast<const char*>(e + directory_header), name),
                little<std::uint32_t>(e + 24),
                little<std::uint32_t>(e + 20),
                little<std::uint32_t>(e + 42),
                little<std::uint16_t>(e + 10),
                little<std::uint32_t>(e + 16)};
    if (entry.size == 0xffffffffu || entry.packed == 0xffffffffu)
      throw FormatError("the zip archive's entry " + entry.name + " is larger than 4 GB, which is not read");
    if (!entry.name.empty() && entry.name.back() != '/') entries_.push_back(entry);
    at += directory_header + name + extra + comment;
  }
}

FileContent ZipReader::extract(const Entry& entry) const {
  auto damaged = [&](const std::string& what) {
    return FormatError("the zip archive's entry " + entry.name + " " + what);
  };
  if (entry.offset + entry_header > archive_.size() ||
      little<std::uint32_t>(archive_.data() + entry.offset) != entry_mark)
    throw damaged("is damaged");
  const std::uint8_t* header = archive_.data() + entry.offset;
  if (little<std::uint16_t>(header + 6) & 1) throw damaged("is encrypted");
  const std::size_t start =
      entry.offset + entry_header + little<std::uint16_t>(header + 26) + little<std::uint16_t>(header + 28);
  if (start > archive_.size() || entry.packed > archive_.size() - start) throw damaged("is cut off");
  // Deflate packs at most 1032 to 1, so a larger size is a lie that would only cost memory.
  if (entry.size / 1032 > entry.packed + 1) throw damaged("announces a size that it cannot hold");

  FileContent content = FileContent::allocate(entry.size);
  if (entry.method == 0) {
    if (entry.packed != entry.size) throw damaged("is damaged");
    std::copy_n(archive_.data() + start, entry.size, content.data());
  } else if (entry.method == 8) {
    z_stream stream{};
    if (inflateInit2(&stream, -MAX_WBITS) != Z_OK) throw damaged("cannot be unpacked");
    stream.next_in = const_cast<std::uint8_t*>(archive_.data() + start);
    stream.avail_in = static_cast<uInt>(entry.packed);
    stream.next_out = content.data();
    stream.avail_out = static_cast<uInt>(entry.size);
    const int state = inflate(&stream, Z_FINISH);
    const std::size_t written = stream.total_out;
    inflateEnd(&stream);
    if (state != Z_STREAM_END || written != entry.size) throw damaged("is damaged");
  } else {
    throw damaged("is packed by method " + std::to_string(entry.method) + ", which is not read; pack it with deflate");
  }
  if (checksum_of(content.bytes()) != entry.checksum) throw damaged("is damaged: its checksum differs");
  return content;
}

namespace {

std::vector<std::uint8_t> deflated(ByteSpan content) {
  z_stream stream{};
  if (deflateInit2(&stream, 6, Z_DEFLATED, -MAX_WBITS, 8, Z_DEFAULT_STRATEGY) != Z_OK)
    throw Error("cannot start to pack a zip archive");
  std::vector<std::uint8_t> out(deflateBound(&stream, content.size()));
  stream.next_in = const_cast<std::uint8_t*>(content.data());
  stream.avail_in = static_cast<uInt>(content.size());
  stream.next_out = out.data();
  stream.avail_out = static_cast<uInt>(out.size());
  deflate(&stream, Z_FINISH);
  out.resize(stream.total_out);
  deflateEnd(&stream);
  return out;
}

}  // namespace

std::vector<std::uint8_t> encode_zip(const std::vector<ZipItem>& items) {
  std::vector<std::uint8_t> out, directory;
  for (const ZipItem& item : items) {
    if (item.content.size() > 0x7fffffffu) throw ArgumentError("a zip entry holds at most 2 GB: " + item.name);
    const std::size_t offset = out.size();
    const auto packed = deflated(item.content);
    auto common = [&](std::vector<std::uint8_t>& to) {
      put_little<std::uint16_t>(to, 20);          // version needed
      put_little<std::uint16_t>(to, 0x0800);      // names are UTF-8
      put_little<std::uint16_t>(to, 8);           // deflated
      put_little<std::uint32_t>(to, 0x00210000);  // 1980-01-01, so that equal content makes equal archives
      put_little<std::uint32_t>(to, checksum_of(item.content));
      put_little<std::uint32_t>(to, static_cast<std::uint32_t>(packed.size()));
      put_little<std::uint32_t>(to, static_cast<std::uint32_t>(item.content.size()));
      put_little<std::uint16_t>(to, static_cast<std::uint16_t>(item.name.size()));
      put_little<std::uint16_t>(to, 0);
    };
    put_little(out, entry_mark);
    common(out);
    out.insert(out.end(), item.name.begin(), item.name.end());
    out.insert(out.end(), packed.begin(), packed.end());

    put_little(directory, directory_mark);
    put_little<std::uint16_t>(directory, 20);
    common(directory);
    put_little<std::uint16_t>(directory, 0);
    put_little<std::uint16_t>(directory, 0);
    put_little<std::uint16_t>(directory, 0);
    put_little<std::uint32_t>(directory, 0);
    put_little<std::uint32_t>(directory, static_cast<std::uint32_t>(offset));
    directory.insert(directory.end(), item.name.begin(), item.name.end());
  }
  const std::size_t start = out.size();
  out.insert(out.end(), directory.begin(), directory.end());
  put_little(out, end_mark);
  put_little<std::uint32_t>(out, 0);
  put_little<std::uint16_t>(out, static_cast<std::uint16_t>(items.size()));
  put_little<std::uint16_t>(out, static_cast<std::uint16_t>(items.size()));
  put_little<std::uint32_t>(out, static_cast<std::uint32_t>(directory.size()));
  put_little<std::uint32_t>(out, static_cast<std::uint32_t>(start));
  put_little<std::uint16_t>(out, 0);
  return out;
}

}  // namespace civic
