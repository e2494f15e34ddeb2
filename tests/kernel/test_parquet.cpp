#include <catch2/catch.hpp>
#include <filesystem>

#include "bytes_by_hand.h"
#include "kernel/base/error.h"
#include "kernel/formats/blobs.h"
#include "kernel/formats/parquet_file.h"
#include "kernel/formats/parquet_footer.h"
#include "kernel/formats/snappy.h"
#include "kernel/shapes/wkt.h"
#include "parquet_rows.h"

using namespace civic;

namespace {

const std::vector<std::string> edges{"xmin", "ymin", "xmax", "ymax"};

bool mentions(const std::vector<std::uint8_t>& bytes, const std::string& text) {
  return std::search(bytes.begin(), bytes.end(), text.begin(), text.end()) != bytes.end();
}

}  // namespace

TEST_CASE("groups of columns and row groups outside the window leave the metadata") {
  const auto metadata = test::parquet_metadata();
  const FlatParquet flat = flatten_parquet(metadata, std::nullopt, "bbox", edges);
  CHECK(flat.dropped == std::vector<std::string>{"bbox"});
  CHECK(flat.row_groups == 0);
  CHECK_FALSE(mentions(flat.metadata, "xmin"));
  CHECK(flatten_parquet(flat.metadata, std::nullopt, "bbox", edges).metadata == flat.metadata);

  CHECK(flatten_parquet(metadata, Box{0.5, 0.5, 2, 2}, "bbox", edges).row_groups == 1);
  CHECK(flatten_parquet(metadata, Box{5, 5, 6, 6}, "bbox", edges).row_groups == 2);
  CHECK(flatten_parquet(metadata, Box{0, 0, 20, 20}, "bbox", edges).row_groups == 0);
  CHECK(flatten_parquet(metadata, Box{5, 5, 6, 6}, "other", edges).row_groups == 0);
}

TEST_CASE("the last columns become members of a group, and can leave again") {
  const FlatParquet flat = flatten_parquet(test::parquet_metadata(), std::nullopt, "bbox", edges);
  const auto grouped = group_parquet_columns(flat.metadata, "extent", {"c"});
  CHECK(mentions(grouped, "extent"));
  CHECK(flatten_parquet(grouped, std::nullopt, "", {}).dropped == std::vector<std::string>{"extent"});
  CHECK_THROWS_WITH(group_parquet_columns(flat.metadata, "g", {"z"}), Catch::Contains("last columns"));
}

TEST_CASE("metadata that is cut off is refused") {
  const auto metadata = test::parquet_metadata();
  for (std::size_t n = 0; n < metadata.size(); ++n)
    CHECK_THROWS_AS(flatten_parquet({metadata.data(), n}, std::nullopt, "bbox", edges), FormatError);
}

TEST_CASE("rows that are written are read again, group by group") {
  for (const std::size_t rows : {std::size_t{0}, std::size_t{1}, std::size_t{100}, std::size_t{300000}}) {
    const auto bytes = test::parquet_file(rows);
    const InputFile file{ByteSpan(bytes)};
    const ParquetReader reader(file);
    REQUIRE(reader.fields().size() == 7);
    REQUIRE(reader.groups() == 2);
    CHECK(reader.text("geo") == "{}");
    const std::vector<Column> wanted = test::columns_of_every_type(rows);
    for (std::size_t i = 0; i < 6; ++i) {
      CHECK(reader.fields()[i].readable);
      CHECK(reader.fields()[i].type == wanted[i].type);
      Column found;
      reader.read(i, 1, found);
      CHECK(found.integers == wanted[i].integers);
      REQUIRE(found.reals.size() == wanted[i].reals.size());
      REQUIRE(found.texts.size() == wanted[i].texts.size());
      bool same = true;
      for (std::size_t row = 0; row < found.reals.size(); ++row)
        same &=
            std::isnan(found.reals[row]) ? std::isnan(wanted[i].reals[row]) : found.reals[row] == wanted[i].reals[row];
      for (std::size_t row = 0; row < found.texts.size(); ++row)
        same &= found.texts.missing(row) == wanted[i].texts.missing(row) && found.texts[row] == wanted[i].texts[row];
      CHECK(same);
    }
    BlobDecoder decoder(BlobForm::wkb, missing_integer, std::nullopt, false);
    decoder.add(reader.blobs(6, 0).values);
    REQUIRE(decoder.handles().size() == rows);
    for (std::size_t row = 0; row < rows; ++row) REQUIRE((decoder.handles()[row] == missing_integer) == (row % 4 == 0));
  }
}

TEST_CASE("a file that is cut off anywhere is refused") {
  const auto bytes = test::parquet_file(20);
  for (std::size_t n = 0; n < bytes.size(); ++n) {
    const InputFile file{ByteSpan(bytes).subspan(0, n)};
    CHECK_THROWS_AS(ParquetReader(file), FormatError);
  }
}

TEST_CASE("rows of other columns are not added, and no file comes about") {
  const std::string path = test::temporary_path("other.parquet");
  std::vector<Column> columns = test::columns_of_every_type(2);
  {
    ParquetWriter writer(path, columns, "");
    columns[0].name = "no";
    CHECK_THROWS_AS(writer.add(columns, nullptr, 2), ArgumentError);
    columns.pop_back();
    CHECK_THROWS_AS(writer.add(columns, nullptr, 2), ArgumentError);
  }
  CHECK_THROWS_AS(InputFile(path), FileError);
}

TEST_CASE("Snappy: literals, and copies that overlap themselves") {
  // "abc", then seven bytes from three back, then the same with an offset of two bytes and of four.
  const std::vector<std::uint8_t> packed{17, 2 << 2, 'a',        'b', 'c', 3 << 2 | 1, 3, 2 << 2 | 2,
                                         3,  0,      3 << 2 | 3, 9,   0,   0,          0};
  const FileContent content = unpack_snappy(packed, 17);
  CHECK(std::string(content.bytes().begin(), content.bytes().end()) == "abcabcabcabcabcab");
  for (std::size_t n = 0; n < packed.size(); ++n)
    CHECK_THROWS_AS(unpack_snappy(ByteSpan(packed).subspan(0, n), 17), FormatError);
  CHECK_THROWS_AS(unpack_snappy(packed, 18), FormatError);
  CHECK_THROWS_AS(unpack_snappy(std::vector<std::uint8_t>{4, 0 << 2, 'a', 0 << 2 | 1, 2}, 4),
                  FormatError);  // from before the start
}
