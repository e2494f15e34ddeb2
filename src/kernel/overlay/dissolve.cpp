#include "dissolve.h"

#include <algorithm>

#include "../base/parallel.h"
#include "../index/rtree.h"
#include "thin_rings.h"

namespace civic {
namespace {

StoreBuffer whole_of(const Arrangement& a) {
  return pieces_by_row(a, cells_by_region(a, [](int) { return 0; })).store;
}

// What becomes one shape: things of a group from `begin` to `end`.
struct Bundle {
  int group;
  std::size_t begin, end;
};

// Bundles of at most so many things, whose groups ascend.
std::vector<Bundle> bundled(std::span<const int> groups, const std::function<std::size_t(int group)>& most) {
  std::vector<Bundle> out;
  for (std::size_t i = 0; i < groups.size(); ++i) {
    if (out.empty() || out.back().group != groups[i] || i - out.back().begin == most(groups[i]))
      out.push_back({groups[i], i, i});
    out.back().end = i + 1;
  }
  return out;
}

// Runs make(i) for each of n shapes, side by side where there are many: a few have the threads for themselves.
template <class Make>
std::vector<StoreBuffer> each(std::size_t n, const Make& make) {
  std::vector<StoreBuffer> out(n);
  const std::size_t grain = n < context().threads ? n : 1;
  if (grain == 1) {
    parallel_for(n, 1, [&](std::size_t i, std::size_t) { out[i] = make(i); });
  } else {
    for (std::size_t i = 0; i < n; ++i) out[i] = make(i);
  }
  return out;
}

// With how many others a box meets on the mean, itself with them; not counted on once they are more than `most`.
double boxes_met(const RTree& tree, const std::function<Box(int row)>& box, std::size_t most) {
  std::size_t pairs = 0;
  for (const int row : tree.rows()) {
    tree.visit(box(row), [&](int, const Box&) { ++pairs; });
    if (pairs > most * tree.size()) break;
  }
  return static_cast<double>(pairs) / static_cast<double>(std::max<std::size_t>(1, tree.size()));
}

constexpr std::size_t most_met = 256;

// How many shapes become one at a time: few of those in stacks, as crossings grow with their square, more side by side.
std::size_t bundle_size(double boxes_met) {
  return static_cast<std::size_t>(std::clamp(4096 / boxes_met, 16.0, 512.0));
}

// Unions by levels: neighbours first, so that what lies within others is gone before it meets the rest. What a level
// makes of the one below.
std::vector<StoreBuffer> next_level(const std::vector<StoreBuffer>& shapes, std::span<const Bundle> bundles,
                                    const Grid& grid) {
  static constexpr int first[] = {1}, none[] = {0};
  return each(bundles.size(), [&](std::size_t k) {
    std::vector<ShapeRows> layers;
    for (std::size_t i = bundles[k].begin; i < bundles[k].end; ++i)
      layers.push_back({shapes[i].view(), shapes[i].types.empty() ? none : first});
    // Levels round crossings one after another, which may leave holes of the width of cells.
    return without_thin_rings(whole_of({layers, FillRule::even_odd, grid}), Rings::holes, 8 * grid.cell());
  });
}

// Up to one shape for each group.
void unite_groups(std::vector<StoreBuffer>& shapes, std::vector<int>& groups, const Grid& grid) {
  while (std::adjacent_find(groups.begin(), groups.end()) != groups.end()) {
    std::vector<Box> boxes;
    for (const StoreBuffer& shape : shapes) boxes.push_back(shape.types.empty() ? Box{} : shape.boxes[0]);
    const std::size_t size = bundle_size(boxes_met(
        RTree(boxes), [&](int i) { return boxes[i]; }, most_met));
    const std::vector<Bundle> bundles = bundled(groups, [size](int) { return size; });
    shapes = next_level(shapes, bundles, grid);
    groups.clear();
    for (const Bundle& bundle : bundles) groups.push_back(bundle.group);
  }
}

// All groups in one arrangement.
Pieces dissolve_together(const ShapeRows& rows, std::span<const int> groups) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  Pieces out = pieces_by_row(a, cells_by_region(a, [&](int feature) { return groups[feature]; }));
  out.self_crossing_x = self_crossing_rows(a, rows, 0);
  return out;
}

bool is_polygonal(const ShapeRows& rows, int row) {
  return !rows.store.holds_part(rows[row], ShapeKind::line) && !rows.store.holds_part(rows[row], ShapeKind::point);
}

// Each group on its own; those with lines or points at once, as their ends would be joined before others meet them.
Pieces dissolve_apart(const ShapeRows& rows, std::span<const int> groups, const RTree& tree, std::size_t size) {
  std::vector<int> order = tree.rows();  // by group, neighbours side by side
  std::stable_sort(order.begin(), order.end(), [&](int i, int j) { return groups[i] < groups[j]; });
  std::vector<int> group_of, handles;
  for (const int row : order) {
    group_of.push_back(groups[row]);
    handles.push_back(rows[row] + 1);
  }
  std::vector<char> at_once(group_of.empty() ? 0 : group_of.back() + 1, 0);
  for (const int row : order)
    if (!is_polygonal(rows, row)) at_once[groups[row]] = 1;
  const auto most = [&](int group) { return at_once[group] ? order.size() : size; };
  const std::vector<Bundle> bundles = bundled(group_of, most);
  const Grid grid = Arrangement::grid_for({&rows, 1});
  std::vector<std::vector<int>> self_crossing(bundles.size());
  std::vector<StoreBuffer> shapes = each(bundles.size(), [&](std::size_t k) {
    const Bundle& bundle = bundles[k];
    const ShapeRows some{rows.store, std::span(handles).subspan(bundle.begin, bundle.end - bundle.begin)};
    const Arrangement a({&some, 1}, FillRule::even_odd, grid);
    for (const int row : self_crossing_rows(a, some, 0)) self_crossing[k].push_back(order[bundle.begin + row]);
    return whole_of(a);
  });
  group_of.clear();
  for (const Bundle& bundle : bundles) group_of.push_back(bundle.group);
  unite_groups(shapes, group_of, grid);
  Pieces out = pieces_of(shapes, group_of);
  for (const auto& some : self_crossing)
    out.self_crossing_x.insert(out.self_crossing_x.end(), some.begin(), some.end());
  std::sort(out.self_crossing_x.begin(), out.self_crossing_x.end());
  return out;
}

}  // namespace

Pieces dissolve(const ShapeRows& rows, std::span<const int> groups) {
  const RTree tree(rows);
  const double met = boxes_met(
      tree, [&](int row) { return rows.box(row); }, most_met);
  const bool one_group = std::all_of(groups.begin(), groups.end(), [&](int group) { return group == groups[0]; });
  constexpr double beside = 16;  // boxes that one in a coverage meets at most: what meets more lies on top of others
  return one_group || met > beside ? dissolve_apart(rows, groups, tree, bundle_size(met))
                                   : dissolve_together(rows, groups);
}

StoreBuffer united(std::span<const ShapeRows> layers) { return whole_of({layers, FillRule::even_odd}); }

StoreBuffer union_of(std::vector<StoreBuffer> shapes) {
  if (shapes.empty()) return {};
  static constexpr int first[] = {1};
  std::vector<ShapeRows> layers;
  for (const StoreBuffer& shape : shapes)
    if (!shape.types.empty()) layers.push_back({shape.view(), first});
  std::vector<int> groups(shapes.size(), 0);
  const Grid grid = Arrangement::grid_for(layers);
  unite_groups(shapes, groups, grid);
  return std::move(shapes[0]);
}

}  // namespace civic
