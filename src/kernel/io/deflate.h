// Deflate (RFC 1951) and gzip (RFC 1952), through zlib.
#pragma once
#include <vector>

#include "bytes.h"

namespace civic {

// Unpacks a raw deflate stream whose unpacked size is known; false where it is damaged or of another size.
bool inflate_raw(ByteSpan packed, FileContent& content, std::size_t size);
std::vector<std::uint8_t> deflate_raw(ByteSpan content);

bool is_gzip(ByteSpan bytes);
// All members of a gzip file, one after the other; throws FormatError where it is damaged or cut off.
FileContent gunzip(ByteSpan packed);
std::vector<std::uint8_t> gzip(ByteSpan content);

}  // namespace civic
