// The footer of a Parquet file (Apache Parquet format 2.10: metadata in Thrift's compact protocol), changed so that a
// library for flat tables can write and read GeoParquet 1.1: its bbox is a group of columns.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "../io/bytes.h"
#include "../shapes/store.h"

namespace civic {

// All take the metadata without its length and mark, and throw FormatError where it is damaged.

// Makes the last columns members of a group. The group is required, so that the pages stay as they are.
std::vector<std::uint8_t> group_parquet_columns(ByteSpan metadata, const std::string& group,
                                                const std::vector<std::string>& members);

struct FlatParquet {
  std::vector<std::uint8_t> metadata;
  std::vector<std::string> dropped;  // columns that are groups, which are not read
  std::size_t row_groups = 0;        // left out, as the statistics of their boxes do not meet the window
};

// Leaves out columns that are groups (lists of simple values may stay) and, given a window and the group and members of
// the box column (xmin, ymin, xmax, ymax), the row groups that lie outside it.
FlatParquet flatten_parquet(ByteSpan metadata, const std::optional<Box>& window, const std::string& box_group,
                            const std::vector<std::string>& box_members);

// The boxes around the rows of each group, by the statistics of the columns of boxes; nothing where they do not tell
// it.
std::vector<std::optional<Box>> parquet_boxes(ByteSpan metadata, const std::string& box_group,
                                              const std::vector<std::string>& box_members);

}  // namespace civic
