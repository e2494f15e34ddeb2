// Parquet files that the core wrote, for tests of its reader.
#pragma once
#include <filesystem>
#include <random>
#include <string>
#include <vector>

#include "kernel/formats/parquet_file.h"
#include "kernel/shapes/wkt.h"

namespace test {

using namespace civic;

// A path that nothing has yet.
inline std::string temporary_path(const std::string& name) {
  const std::filesystem::path path =
      std::filesystem::temp_directory_path() / ("civic-" + std::to_string(std::random_device{}()) + name);
  std::filesystem::remove(path);
  return path.string();
}

inline std::vector<Column> columns_of_every_type(std::size_t rows) {
  std::vector<Column> columns(6);
  const char* names[] = {"yes", "whole", "real", "text", "day", "time"};
  const ColumnType types[] = {ColumnType::logical, ColumnType::integer, ColumnType::real,
                              ColumnType::text,    ColumnType::date,    ColumnType::datetime};
  for (std::size_t i = 0; i < columns.size(); ++i) {
    columns[i].name = names[i];
    columns[i].type = types[i];
  }
  for (std::size_t row = 0; row < rows; ++row) {
    const bool missing = row % 7 == 3;
    columns[0].integers.push_back(missing ? missing_integer : row % 3 == 0);
    columns[1].integers.push_back(missing ? missing_integer : static_cast<int>(row) - 50);
    columns[2].reals.push_back(missing ? nan_value : static_cast<double>(row) / 3);
    if (missing)
      columns[3].texts.push_missing();
    else
      columns[3].texts.push(std::string(row % 5, 'x') + "\u00e9");
    columns[4].reals.push_back(missing ? nan_value : static_cast<double>(row) - 400);
    columns[5].reals.push_back(missing ? nan_value : static_cast<double>(row) * 1e3 + 0.125);
  }
  return columns;
}

// A file of two groups of rows, with points in its column "shape".
inline std::vector<std::uint8_t> parquet_file(std::size_t rows) {
  const std::string path = temporary_path("rows.parquet");
  ShapeBuilder builder;
  for (int i = 0; i < 3; ++i) read_wkt("POINT (" + std::to_string(i) + " 2)", builder);
  const StoreBuffer store = builder.take();
  std::vector<int> handles;
  for (std::size_t row = 0; row < rows; ++row) handles.push_back(static_cast<int>(row % 4));  // 0 is a missing shape
  const ShapeRows shapes{store.view(), handles};
  const std::vector<Column> columns = columns_of_every_type(rows);
  ParquetWriter writer(path, columns, "shape");
  writer.add(columns, &shapes, rows);
  writer.add(columns, &shapes, rows);
  writer.finish({{"geo", "{}"}});
  const FileContent content = FileContent::read(path);
  std::filesystem::remove(path);
  return {content.bytes().begin(), content.bytes().end()};
}

}  // namespace test
