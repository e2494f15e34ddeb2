// Shapes made valid.
#pragma once
#include "pieces.h"

namespace civic {

// Each row's shape on its own, made valid by the rule; x holds the row. Rows without any inside or line have no piece.
Pieces repair(const ShapeRows& rows, FillRule rule);

}  // namespace civic
