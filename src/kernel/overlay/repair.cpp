#include "repair.h"

namespace civic {

Pieces repair(const ShapeRows& rows, FillRule rule) {
  return row_by_row(rows, [rule](const ShapeRows& one, int) {
    const Arrangement a({&one, 1}, rule);
    return pieces_by_row(a, cells_by_region(a, [](int) { return 0; })).store;
  });
}

}  // namespace civic
