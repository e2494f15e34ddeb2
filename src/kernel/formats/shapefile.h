// The shapefile's main and index files (Shapefile Technical Description, July 1998), decoded in place in
// parallel and encoded.
#pragma once
#include <string>
#include <vector>

#include "../shapes/store.h"
#include "bytes.h"
#include "columns.h"

namespace civic {

// Where each record's content lies, and how much it will take in a store.
class ShapefileReader {
 public:
  // Walks the records' headers. Rows whose entry in `dropped` is not 0 (deleted in the table) are left out.
  // Throws FormatError that names record and byte.
  explicit ShapefileReader(ByteSpan shp, const std::vector<char>& dropped = {});

  const StoreCounts& counts() const { return counts_; }    // parts: an upper bound, one a ring
  std::size_t records() const { return records_.size(); }  // null shapes included
  // For each record the 1-based handle of its shape, `missing` for a null shape.
  std::vector<int> handles(int missing) const;
  // Fills the columns; returns the number of parts used. Rings are closed and oriented; what was mended is noted.
  std::size_t decode(const StoreTarget& target, Notices& notices) const;

 private:
  struct Record {
    std::size_t at;      // content, after the record's header
    std::size_t length;  // of the content, bytes
    int shape;           // 0-based among the shapes that are not null; -1 for null
    int number;
  };
  void scan_record(Record& record);
  void decode_record(const Record& record, const StoreTarget& target, Notices& notices) const;
  void decode_rings(const Record& record, const StoreTarget& target, Notices& notices) const;
  void decode_vertices(const std::uint8_t* points, std::size_t n, const Record& record, std::size_t z_at,
                       std::size_t vertex, const StoreTarget& target) const;
  [[noreturn]] void fail(const Record& record, const std::string& what) const;

  ByteSpan shp_;
  int type_ = 0;
  bool z_ = false, m_ = false;
  StoreCounts counts_;
  std::vector<Record> records_;
  std::vector<std::size_t> first_vertex_, first_ring_;  // per record
};

struct ShapefileBytes {
  std::vector<std::uint8_t> shp, shx;
  std::size_t empty = 0;  // shapes without vertices, which the format can only hold as null
};

// Encodes rows that all are points, multipoints, lines or polygons; throws ArgumentError for mixtures.
ShapefileBytes encode_shapefile(const ShapeRows& rows);

// Code page of a .cpg file or of a dBASE language driver byte, as iconv names it; empty where unknown.
std::string encoding_of_cpg(const std::string& text);
std::string encoding_of_language_driver(int driver);

}  // namespace civic
