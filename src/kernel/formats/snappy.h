// Snappy (google/snappy, format_description.txt), of which Parquet's pages are mostly made: unpacking alone.
#pragma once
#include "../io/bytes.h"

namespace civic {

// Throws FormatError where the bytes are damaged or unpack to another size.
FileContent unpack_snappy(ByteSpan packed, std::size_t size);

}  // namespace civic
