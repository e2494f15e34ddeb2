#include "zip.h"

#include <simdjson.h>
#include <zlib.h>

#include <algorithm>

#include "../base/error.h"
#include "../io/deflate.h"
#include "../io/unpack_limit.h"

namespace civic {
namespace {

constexpr std::uint32_t entry_mark = 0x04034b50, directory_mark = 0x02014b50, end_mark = 0x06054b50;
constexpr std::uint32_t end64_mark = 0x06064b50, locator64_mark = 0x07064b50;
constexpr std::size_t entry_header = 30, directory_header = 46, end_header = 22, end64_header = 56, locator64 = 20;
constexpr std::uint32_t in_extra = 0xffffffffu;  // a size that stands in the 64-bit extra field

struct Directory {
  std::size_t entries, at, size;
};

Directory directory64(const InputFile& archive, std::size_t locator) {
  const FileContent pointer = archive.read(locator, locator64);
  const std::size_t at = little<std::uint64_t>(pointer.bytes().data() + 8);
  if (at > archive.size() || archive.size() - at < end64_header)
    throw FormatError("the zip archive's end is damaged (byte " + std::to_string(locator) + ")");
  const FileContent end = archive.read(at, end64_header);
  const std::uint8_t* e = end.bytes().data();
  if (little<std::uint32_t>(e) != end64_mark)
    throw FormatError("the zip archive's end is damaged (byte " + std::to_string(at) + ")");
  return {little<std::uint64_t>(e + 32), little<std::uint64_t>(e + 48), little<std::uint64_t>(e + 40)};
}

Directory find_directory(const InputFile& archive) {
  const std::size_t size = archive.size(), tail = std::min<std::size_t>(size, end_header + 65535);
  const FileContent content = archive.read(size - tail, tail);
  const std::uint8_t* bytes = content.bytes().data();
  for (std::size_t at = tail < end_header ? 0 : tail - end_header + 1; at-- > 0;) {
    if (little<std::uint32_t>(bytes + at) != end_mark) continue;
    if (at >= locator64 && little<std::uint32_t>(bytes + at - locator64) == locator64_mark)
      return directory64(archive, size - tail + at - locator64);
    return {little<std::uint16_t>(bytes + at + 10), little<std::uint32_t>(bytes + at + 16),
            little<std::uint32_t>(bytes + at + 12)};
  }
  throw FormatError("it is no zip archive, or its end is cut off");
}

// Takes the sizes that do not fit 32 bits from the entry's extra field, in the order they stand there.
void read_extra64(ZipReader::Entry& entry, const std::uint8_t* extra, std::size_t length) {
  std::vector<std::size_t*> wanted;
  for (std::size_t* value : {&entry.size, &entry.packed, &entry.offset})
    if (*value == in_extra) wanted.push_back(value);
  for (std::size_t at = 0; !wanted.empty() && at + 4 <= length;) {
    const std::size_t size = little<std::uint16_t>(extra + at + 2), next = at + 4 + size;
    if (next > length) break;
    if (little<std::uint16_t>(extra + at) == 1 && size >= 8 * wanted.size())
      for (std::size_t i = 0; i < wanted.size(); ++i) *wanted[i] = little<std::uint64_t>(extra + at + 4 + 8 * i);
    at = next;
  }
}

// The bytes 128 to 255 of code page 437, in which names are that are not UTF-8 (APPNOTE 6.3, appendix D).
constexpr char8_t code_page_437[] =
    u8"ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒ"
    u8"áíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐"
    u8"└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀"
    u8"αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■ ";

// Names are UTF-8 by what they hold, whether a flag says so or not, as many writers leave it out.
std::string name_as_utf8(const std::string& name) {
  if (simdjson::validate_utf8(name)) return name;
  std::vector<std::string> high;
  for (const char8_t* at = code_page_437; *at != 0; ++at) {
    const bool begins = (*at & 0xc0) != 0x80;
    if (begins) high.emplace_back();
    high.back() += static_cast<char>(*at);
  }
  std::string out;
  for (const char byte : name) {
    const auto code = static_cast<unsigned char>(byte);
    out += code < 128 ? std::string(1, byte) : high[code - 128u];
  }
  return out;
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

ZipReader::ZipReader(const InputFile& archive) : archive_(archive) {
  const Directory found = find_directory(archive);
  auto cut_off = [](std::size_t byte) {
    return FormatError("the zip archive's directory is cut off or damaged (byte " + std::to_string(byte) + ")");
  };
  if (found.at > archive.size() || found.size > archive.size() - found.at) throw cut_off(found.at);
  const FileContent content = archive.read(found.at, found.size);
  const ByteSpan directory = content.bytes();
  std::size_t at = 0;
  for (std::size_t i = 0; i < found.entries; ++i) {
    if (at + directory_header > directory.size() || little<std::uint32_t>(directory.data() + at) != directory_mark)
      throw cut_off(found.at + at);
    const std::uint8_t* e = directory.data() + at;
    const std::size_t name = little<std::uint16_t>(e + 28), extra = little<std::uint16_t>(e + 30),
                      comment = little<std::uint16_t>(e + 32);
    if (at + directory_header + name + extra + comment > directory.size()) throw cut_off(found.at + at);
    Entry entry{name_as_utf8({reinterpret_cast<const char*>(e + directory_header), name}),
                little<std::uint32_t>(e + 24),
                little<std::uint32_t>(e + 20),
                little<std::uint32_t>(e + 42),
                little<std::uint16_t>(e + 10),
                little<std::uint32_t>(e + 16)};
    read_extra64(entry, e + directory_header + name, extra);
    if (!entry.name.empty() && entry.name.back() != '/') entries_.push_back(entry);
    at += directory_header + name + extra + comment;
  }
}

const ZipReader::Entry& ZipReader::entry(const std::string& name) const {
  for (const Entry& entry : entries_)
    if (entry.name == name) return entry;
  throw FormatError("the zip archive has no entry " + name);
}

FileContent ZipReader::extract(const Entry& entry) const {
  auto damaged = [&](const std::string& what) {
    return FormatError("the zip archive's entry " + entry.name + " " + what);
  };
  const std::size_t size = archive_.size();
  if (entry.offset > size || size - entry.offset < entry_header) throw damaged("is damaged");
  const FileContent front = archive_.read(entry.offset, entry_header);
  const std::uint8_t* header = front.bytes().data();
  if (little<std::uint32_t>(header) != entry_mark) throw damaged("is damaged");
  if (little<std::uint16_t>(header + 6) & 1) throw damaged("is encrypted; unpack it with its password first");
  const std::size_t start =
      entry.offset + entry_header + little<std::uint16_t>(header + 26) + little<std::uint16_t>(header + 28);
  if (start > size || entry.packed > size - start) throw damaged("is cut off");
  // Deflate packs at most 1032 to 1, so a larger size is a lie that would only cost memory.
  if (entry.size / 1032 > entry.packed + 1) throw damaged("announces a size that it cannot hold");
  need_room(entry.size, archive_.size());

  FileContent content;
  if (entry.method == 0) {
    if (entry.packed != entry.size) throw damaged("is damaged");
    content = archive_.read(start, entry.size);
  } else if (entry.method == 8) {
    const FileContent packed = archive_.read(start, entry.packed);
    if (!inflate_raw(packed.bytes(), content, entry.size)) throw damaged("is damaged");
  } else {
    throw damaged("is packed by method " + std::to_string(entry.method) + ", which is not read; pack it with deflate");
  }
  if (checksum_of(content.bytes()) != entry.checksum) throw damaged("is damaged: its checksum differs");
  return content;
}

std::vector<std::uint8_t> encode_zip(const std::vector<ZipItem>& items) {
  std::vector<std::uint8_t> out, directory;
  for (const ZipItem& item : items) {
    if (item.content.size() > 0x7fffffffu) throw ArgumentError("a zip entry holds at most 2 GB: " + item.name);
    const std::size_t offset = out.size();
    const auto packed = deflate_raw(item.content);
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
