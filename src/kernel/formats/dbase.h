// dBASE tables, the attribute file of a shapefile: fields of types C N F L D M of dBASE III and IV, and the binary
// ones (I O B T @ Y +) of their successors.
#pragma once
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "../io/bytes.h"
#include "columns.h"
#include "memo.h"

namespace civic {

class DbaseReader {
 public:
  // Reads the header; throws FormatError with the byte of what is wrong. `memo` is the memo file, where there is one.
  // `skip_damaged`: a table that is cut off is read as far as it goes.
  DbaseReader(const InputFile& dbf, const InputFile* memo, bool skip_damaged);

  struct Field {
    std::string name;  // bytes as they are, in the table's encoding
    char type;
    int width, decimals;
    std::size_t offset;  // within a record
  };
  const std::vector<Field>& fields() const { return fields_; }
  bool holds_text(int field) const;
  std::size_t records() const { return records_; }
  int language_driver() const { return language_driver_; }
  // Those of some records, counted from 0, that are not marked as deleted.
  std::vector<int> live(const std::vector<int>& records) const;
  // The values of some fields in some records. Text keeps its encoding; blanks are missing. May be called on several
  // threads at once.
  std::vector<Column> read(const std::vector<int>& fields, const std::vector<int>& records);
  const Notices& notices() const { return notices_; }

 private:
  void read_fields(ByteSpan header);
  template <class Visit>
  void visit(const std::vector<int>& records, const Visit& visit) const;
  Column read_text(int field, const std::vector<int>& records);
  void note(const Notices& notices);

  const InputFile& dbf_;
  std::unique_ptr<MemoFile> memo_;
  std::size_t records_ = 0, header_ = 0, width_ = 0;
  int language_driver_ = 0;
  std::vector<Field> fields_;
  Notices notices_;
  std::mutex notices_lock_;
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
