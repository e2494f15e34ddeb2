// Zip archives (PKWARE APPNOTE 6.3): stored and deflated entries, read from memory and written.
#pragma once
#include <string>
#include <vector>

#include "bytes.h"

namespace civic {

class ZipReader {
 public:
  explicit ZipReader(ByteSpan archive);
  struct Entry {
    std::string name;
    std::size_t size, packed, offset;
    int method;
    std::uint32_t checksum;
  };
  const std::vector<Entry>& entries() const { return entries_; }
  // The entry's content, checked against its checksum.
  FileContent extract(const Entry& entry) const;

 private:
  ByteSpan archive_;
  std::vector<Entry> entries_;
};

struct ZipItem {
  std::string name;
  ByteSpan content;
};

std::vector<std::uint8_t> encode_zip(const std::vector<ZipItem>& items);

}  // namespace civic
