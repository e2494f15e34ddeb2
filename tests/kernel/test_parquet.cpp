#include <catch2/catch.hpp>

#include "bytes_by_hand.h"
#include "kernel/base/error.h"
#include "kernel/formats/parquet_footer.h"

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
