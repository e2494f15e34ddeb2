#include "label_places.h"

#include <algorithm>
#include <cmath>

#include "../base/progress.h"
#include "../shapes/store.h"

namespace civic {
namespace {

struct Step {
  double x, y;
};

// Right, left, above, below, and the corners.
std::vector<Step> steps_beside(const Label& label) {
  const double dx = label.width / 2 + 1.6, dy = label.height / 2 + 1.6;
  return {{dx, 0}, {-dx, 0}, {0, dy}, {0, -dy}, {dx, dy}, {dx, -dy}, {-dx, dy}, {-dx, -dy}};
}

// At the place itself, then up and down by parts of a line, then aside.
std::vector<Step> steps_over(const Label& label) {
  std::vector<Step> steps;
  for (const double aside : {0.0, -2.0, 2.0})
    for (const double up : {0.0, 0.6, -0.6, 1.2, -1.2, 1.8, -1.8})
      steps.push_back({aside * label.height, up * label.height});
  return steps;
}

// Boxes that are taken, by cells of a grid as wide as the widest label and as high as the highest.
class Taken {
 public:
  Taken(double wide, double high, double cell_width, double cell_height)
      : cell_width_(std::max(cell_width, wide / 500)),
        cell_height_(std::max(cell_height, high / 500)),
        across_(static_cast<int>(wide / cell_width_) + 1),
        cells_(static_cast<std::size_t>(across_) * (static_cast<int>(high / cell_height_) + 1)) {}

  bool is_free(const Box& box) const {
    bool free = true;
    visit(box, [&](std::size_t cell) {
      for (const Box& other : cells_[cell])
        if (box.xmin < other.xmax && other.xmin < box.xmax && box.ymin < other.ymax && other.ymin < box.ymax)
          free = false;
    });
    return free;
  }
  void take(const Box& box) {
    visit(box, [&](std::size_t cell) { cells_[cell].push_back(box); });
  }

 private:
  template <class Visit>
  void visit(const Box& box, Visit&& visit) const {
    for (int row = static_cast<int>(box.ymin / cell_height_); row <= static_cast<int>(box.ymax / cell_height_); ++row)
      for (int column = static_cast<int>(box.xmin / cell_width_); column <= static_cast<int>(box.xmax / cell_width_);
           ++column)
        visit(static_cast<std::size_t>(row) * across_ + column);
  }
  double cell_width_, cell_height_;
  int across_;
  std::vector<std::vector<Box>> cells_;
};

}  // namespace

std::vector<LabelPlace> label_places(std::span<const Label> labels, double wide, double high, double apart) {
  double widest = 1, highest = 1;
  for (const Label& label : labels) {
    if (label.width <= wide) widest = std::max(widest, label.width + 2 * apart);
    if (label.height <= high) highest = std::max(highest, label.height + 2 * apart);
  }
  Taken taken(wide, high, widest, highest);
  std::vector<LabelPlace> places;
  for (const Label& label : labels) {
    end_if_interrupted();
    LabelPlace place{nan_value, nan_value};
    for (const Step& step : label.beside ? steps_beside(label) : steps_over(label)) {
      const double x = label.x + step.x, y = label.y + step.y;
      const double half_width = label.width / 2 + apart, half_height = label.height / 2 + apart;
      const Box box{x - half_width, y - half_height, x + half_width, y + half_height};
      const bool inside = box.xmin >= 0 && box.ymin >= 0 && box.xmax <= wide && box.ymax <= high;
      if (!inside || !taken.is_free(box)) continue;
      taken.take(box);
      place = {x, y};
      break;
    }
    places.push_back(place);
  }
  return places;
}

}  // namespace civic
