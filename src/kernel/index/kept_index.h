// Indexes of whole layers, kept for the next question that is asked of the same layer.
#pragma once
#include <memory>

#include "rtree.h"

namespace civic {

// The index of a layer's rows. That of a large layer is kept, the last few of them, and found again by the content of
// the rows' boxes, so that it is built once however the layer travels between calls.
std::shared_ptr<const RTree> index_of(const ShapeRows& rows);

}  // namespace civic
