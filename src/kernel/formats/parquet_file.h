// Rows of a Parquet file (Apache Parquet format 2.10), a group of rows at a time: what is common of it is read (flat
// columns, plain or by dictionary, unpacked or packed by Snappy or gzip, data pages of both versions), plain columns
// are written.
#pragma once
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "../io/bytes.h"
#include "../io/file_writer.h"
#include "../shapes/store.h"
#include "columns.h"

namespace civic {

// A column at the top of a file's schema. `readable` is false for groups, lists, decimals, packings and whatever else
// is left to others.
struct ParquetField {
  std::string name;
  ColumnType type = ColumnType::empty;  // `empty` where the values are bytes, such as shapes
  bool readable = false;
};

class ParquetReader {
 public:
  // Reads the metadata; throws FormatError where it is damaged. The file must outlive the reader.
  explicit ParquetReader(const InputFile& file);

  const std::vector<ParquetField>& fields() const { return fields_; }
  std::size_t groups() const { return groups_.size(); }
  std::size_t rows(std::size_t group) const { return groups_[group].rows; }
  // The value of a key of the file's metadata; nothing where it has none.
  std::optional<std::string> text(const std::string& key) const;

  // Adds the values of a readable column in a group of rows. Whole numbers of 64 bits become reals, or text where one
  // of them is beyond 2^53.
  void read(std::size_t field, std::size_t group, Column& column) const;

  // A column of bytes: missing values have none. The spans point into `kept`.
  struct Blobs {
    std::vector<FileContent> kept;
    std::vector<ByteSpan> values;
  };
  Blobs blobs(std::size_t field, std::size_t group) const;

 private:
  struct Chunk {
    std::size_t at = 0, size = 0, values = 0;
    int codec = 0;
  };
  struct Kind {
    int physical = 0, width = 0;
    bool required = false;
    double scale = 1;  // by which whole numbers are divided
  };
  struct Group {
    std::size_t rows = 0;
    std::vector<Chunk> chunks;  // a field each
  };
  struct Values;
  Values values(std::size_t field, std::size_t group) const;

  const InputFile& file_;
  std::vector<ParquetField> fields_;
  std::vector<Kind> kinds_;
  std::vector<Group> groups_;
  std::map<std::string, std::string> texts_;
};

// Writes columns and shapes as GeoParquet's well-known binary, in groups of rows, beside its target.
class ParquetWriter {
 public:
  // `columns` tell names and types alone; `shape_name` is empty for a table without shapes.
  ParquetWriter(const std::string& path, const std::vector<Column>& columns, const std::string& shape_name);

  // A group of rows of those columns, as many as there are shapes where there are any.
  void add(const std::vector<Column>& columns, const ShapeRows* shapes, std::size_t rows);

  // Writes the metadata with the given keys and values, and puts the file in its place, without waiting for the disk.
  void finish(const std::vector<std::pair<std::string, std::string>>& texts);

 private:
  struct Chunk {
    std::size_t at = 0, size = 0, values = 0;
    std::optional<std::pair<double, double>> range;
    std::size_t missing = 0;
  };
  struct Group {
    std::size_t rows = 0;
    std::vector<Chunk> chunks;
  };
  Chunk add_column(const Column& column, std::size_t rows);
  Chunk add_shapes(const ShapeRows& shapes);
  void add_page(Chunk& chunk, const std::vector<std::uint8_t>& values, const std::vector<char>& present);
  void write(const std::vector<std::uint8_t>& bytes);

  FileWriter file_;
  std::size_t at_ = 0, rows_ = 0;
  std::vector<std::pair<std::string, ColumnType>> columns_;
  std::vector<Group> groups_;
};

}  // namespace civic
