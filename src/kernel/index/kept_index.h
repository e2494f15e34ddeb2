// Indexes of whole layers, which a context keeps for the next question that is asked of the same layer.
#pragma once
#include <memory>

#include "rtree.h"

namespace civic {

// The index of a layer's rows. That of a large layer is kept, and found again by the content of the rows' boxes, so
// that it is built once however the layer travels between calls.
std::shared_ptr<const RTree> index_of(const ShapeRows& rows);

// How many bytes those that the context keeps may take, those used longest ago going first; 160 million until told
// otherwise.
void limit_kept_indexes(double bytes);

// The context keeps none any longer; how many bytes they took.
double forget_indexes();

}  // namespace civic
