// Zip archives (PKWARE APPNOTE 6.3, with its 64-bit sizes): stored and deflated entries, read and written.
#pragma once
#include <string>
#include <vector>

#include "../io/bytes.h"

namespace civic {

class ZipReader {
 public:
  // Reads the directory alone.
  explicit ZipReader(const InputFile& archive);
  struct Entry {
    std::string name;  // in UTF-8
    std::size_t size, packed, offset;
    int method;
    std::uint32_t checksum;
  };
  const std::vector<Entry>& entries() const { return entries_; }
  // Throws FormatError where there is no such entry.
  const Entry& entry(const std::string& name) const;
  // The entry's content, checked against its checksum.
  FileContent extract(const Entry& entry) const;

 private:
  const InputFile& archive_;
  std::vector<Entry> entries_;
};

struct ZipItem {
  std::string name;
  ByteSpan content;
};

std::vector<std::uint8_t> encode_zip(const std::vector<ZipItem>& items);

}  // namespace civic
