// Whether what R's serialize() made holds data alone.
#pragma once
#include <cstddef>
#include <cstdint>

// Vectors and lists with their attributes, in R's binary format of version 2 (R Internals, section 1.8): no functions,
// calls, environments, promises or pointers, of which unserialize() could make what runs later. False too where a
// length says more than there is.
bool is_plain_data(const std::uint8_t* bytes, std::size_t size);
