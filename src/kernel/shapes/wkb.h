// Well-known binary, ISO 13249-3 / OGC 06-103r4 section 8, both ways. The extended form with flag bits is read too.
#pragma once
#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "../io/bytes.h"
#include "store.h"

namespace civic {

// Appends one shape to the builder; throws FormatError with the byte where reading stopped.
void read_wkb(ByteSpan bytes, ShapeBuilder& builder);

// Appends the shape that starts the bytes and returns how many it took.
std::size_t read_wkb_prefix(ByteSpan bytes, ShapeBuilder& builder);

// Appends one shape in little-endian ISO form.
void write_wkb(const StoreView& store, int shape, std::vector<std::uint8_t>& out);

}  // namespace civic
