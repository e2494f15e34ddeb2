// The shapefile's main and index files (Shapefile Technical Description, July 1998), decoded in parallel by stretches,
// and encoded.
#pragma once
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "../io/bytes.h"
#include "../shapes/store.h"
#include "columns.h"

namespace civic {

// What the header of a main file says.
struct ShapefileHeader {
  int type;  // as the format numbers it, 0 for a file of null shapes
  Box extent;
  std::size_t announced;  // the file's length in bytes
};

// Throws FormatError where the file is no shapefile or holds shapes that are not read.
ShapefileHeader read_shapefile_header(const InputFile& shp);
// The kind of the shapes of a type, or of the largest of them where parts may be several.
ShapeKind kind_of_shapefile_type(int type);

class ShapefileReader {
 public:
  // Finds the records through the index file where there is one that fits, else by walking from header to header.
  // `skip_damaged`: records that cannot be read become missing shapes and are noted instead of an error.
  ShapefileReader(const InputFile& shp, const InputFile* shx, bool skip_damaged);

  const ShapefileHeader& header() const { return header_; }
  std::size_t records() const { return records_.size(); }
  // Records, counted from 0, whose box meets the window. Reads boxes alone where records are long.
  std::vector<int> records_within(const Box& window) const;

  // Chooses the records to decode, counted from 0, and measures them. After this:
  void choose(std::vector<int> records);
  const StoreCounts& counts() const { return counts_; }  // parts: an upper bound, one a ring
  // for each chosen record the 1-based handle of its shape, `missing` for a null shape,
  std::vector<int> handles(int missing) const;
  // and the columns filled; returns the number of parts used. Rings are closed and oriented.
  std::size_t decode(const StoreTarget& target);
  // What was decoded lies within.
  const Box& extent() const { return extent_; }
  const Notices& notices() const { return notices_; }

 private:
  struct Size {  // of a chosen record, then where its shape begins
    std::size_t rings = 0, vertices = 0;
    bool null = true;
  };
  bool read_index(const InputFile& shx);
  void walk();
  void order_by_number(const std::vector<std::uint32_t>& numbers);
  template <class Visit>
  void visit_chosen(const Visit& visit) const;
  Size measure(const std::uint8_t* content, std::size_t record, bool& has_m) const;
  Box decode_record(const std::uint8_t* content, std::size_t at, const StoreTarget& target, Notices& notices) const;
  void decode_rings(const std::uint8_t* content, std::size_t at, const StoreTarget& target, Notices& notices) const;
  std::size_t close_gaps(const StoreTarget& target) const;
  [[noreturn]] void fail(std::size_t record, const std::string& what) const;

  const InputFile& shp_;
  const bool skip_damaged_;
  ShapefileHeader header_;
  bool z_ = false, m_ = false;
  struct Located {  // a record's content, after its header, in the 16-bit words that the format counts
    std::uint32_t words_before, words;
    std::size_t at() const { return std::size_t{words_before} * 2; }
    std::size_t length() const { return std::size_t{words} * 2; }
  };
  std::unique_ptr<Located[]> indexed_;  // from the index file, or
  std::vector<Located> walked_;         // found by walking
  std::span<const Located> records_;    // one of them
  std::vector<int> chosen_;
  std::vector<Size> sizes_;
  std::vector<int> shapes_;  // of each chosen record: its shape, -1 for null
  StoreCounts counts_;
  Notices notices_;
  Box extent_;
};

struct ShapefileBytes {
  std::vector<std::uint8_t> shp, shx;
  std::size_t empty = 0;  // shapes without vertices, which the format can only hold as null
};

// Encodes rows that all are points, multipoints, lines or polygons; throws ArgumentError for mixtures and for more
// than 2 GB, before anything is encoded.
ShapefileBytes encode_shapefile(const ShapeRows& rows);

// Code page of a .cpg file or of a dBASE language driver byte, as iconv names it; empty where unknown.
std::string encoding_of_cpg(const std::string& text);
std::string encoding_of_language_driver(int driver);

}  // namespace civic
