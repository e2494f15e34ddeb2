// dBASE III tables, the attribute file of a shapefile: fields of types C, N, F, L and D.
#pragma once
#include <string>
#include <vector>

#include "bytes.h"
#include "columns.h"

namespace civic {

class DbaseReader {
 public:
  // Reads the header; throws FormatError with the byte of what is wrong.
  explicit DbaseReader(ByteSpan dbf);

  struct Field {
    std::string name;  // bytes as they are, in the table's encoding
    char type;
    int width, decimals;
    std::size_t offset;  // within a record
  };
  const std::vector<Field>& fields() const { return fields_; }
  std::size_t records() const { return records_; }
  int language_driver() const { return language_driver_; }
  // For each record whether it is marked as deleted; empty where none is.
  std::vector<char> deleted() const;
  // The values of one field in the records that are not marked. Text keeps its encoding; blanks are missing.
  Column column(std::size_t field, const std::vector<char>& dropped, Notices& notices) const;

 private:
  std::string_view cell(const Field& field, std::size_t record) const;
  ByteSpan dbf_;
  std::size_t records_ = 0, header_ = 0, width_ = 0;
  int language_driver_ = 0;
  std::vector<Field> fields_;
};

// What a table could not hold, by column.
struct DbaseBytes {
  std::vector<std::uint8_t> dbf;
  Notices notices;
};

// Encodes columns of equal length; names are at most 10 bytes. Widths and decimals follow the data so that numbers
// read back the same. Text is written as it is and cut at 254 bytes, between characters of UTF-8.
DbaseBytes encode_dbase(const std::vector<Column>& columns, std::size_t rows);

}  // namespace civic
