// Well-known text of shapes, OGC 06-103r4 section 7, both ways.
#pragma once
#include <string>
#include <string_view>

#include "store.h"

namespace civic {

// Appends one shape to the builder; throws FormatError with the position where reading stopped.
void read_wkt(std::string_view text, ShapeBuilder& builder);

// Appends one shape; numbers are the shortest that read back to the same double, or have `decimals` digits
// after the point where that is not negative.
void write_wkt(const StoreView& store, int shape, int decimals, std::string& out);

// Appends a number in the same way.
void write_number(double value, int decimals, std::string& out);

}  // namespace civic
