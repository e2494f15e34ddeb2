#include "shapefile.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <cstdlib>
#include <mutex>
#include <numeric>

#include "../base/error.h"
#include "../predicate/locate.h"
#include "visit_items.h"

namespace civic {
namespace {

constexpr std::size_t header_size = 100, record_header = 8;
constexpr std::uint32_t record_header_words = record_header / 2;
constexpr std::size_t box_end = 36;  // a record's type and box

// Shape types of the format: the family is the type modulo 10, tens tell Z (1) and M (2).
enum Family { null_shape = 0, point = 1, polyline = 3, polygon = 5, multipoint = 8 };

bool known_type(int type) {
  const int family = type % 10;
  return type == 0 ||
         (type / 10 <= 2 && (family == point || family == polyline || family == polygon || family == multipoint));
}

std::string type_text(int type) { return type == 31 ? "31 (multipatch)" : std::to_string(type); }

double coordinate(const std::uint8_t* points, std::size_t i, int axis) {
  return little<double>(points + 16 * i + 8 * axis);
}

double measure_value(const std::uint8_t* at) {
  const double m = little<double>(at);
  return m < -1e38 ? nan_value : m;  // the format's way to say no value
}

// The parts of a polyline, polygon or multipoint record, with the offsets of its blocks.
struct RecordLayout {
  const std::uint8_t* content;
  std::size_t parts = 0, points = 0;
  std::size_t parts_at = 0, points_at = 0, z_at = 0, m_at = 0, end = 0;  // m_at is 0 where there is no M

  RecordLayout(const std::uint8_t* record, int type, std::size_t length) : content(record) {
    const int family = type % 10;
    const bool z = type / 10 == 1, may_have_m = type / 10 >= 1;
    if (family == point) {
      points = 1;
      points_at = 4;
      end = 20;
      if (z) z_at = end, end += 8;
      if (may_have_m && end + 8 <= length) m_at = end, end += 8;
      return;
    }
    const std::size_t counts_at = 36;
    end = counts_at + (family == multipoint ? 4 : 8);
    if (length < end) return;
    if (family != multipoint) parts = little<std::uint32_t>(content + counts_at);
    points = little<std::uint32_t>(content + end - 4);
    parts_at = end;
    points_at = parts_at + 4 * parts;
    end = points_at + 16 * points;
    if (z) z_at = end + 16, end = z_at + 8 * points;
    if (may_have_m && end + 16 + 8 * points <= length) m_at = end + 16, end = m_at + 8 * points;
  }

  IndexRange part(std::size_t i) const {
    const auto begin = little<std::int32_t>(content + parts_at + 4 * i);
    const auto stop =
        i + 1 < parts ? little<std::int32_t>(content + parts_at + 4 * (i + 1)) : static_cast<std::int32_t>(points);
    return {begin, stop};
  }
  const std::uint8_t* points_begin() const { return content + points_at; }
};

bool is_closed(const std::uint8_t* points, IndexRange ring) {
  return ring.size() < 1 || std::memcmp(points + 16 * ring.begin, points + 16 * (ring.end - 1), 16) == 0 ||
         (coordinate(points, ring.begin, 0) == coordinate(points, ring.end - 1, 0) &&
          coordinate(points, ring.begin, 1) == coordinate(points, ring.end - 1, 1));
}

double signed_area_twice(const std::uint8_t* points, IndexRange ring) {
  if (ring.size() < 3) return 0;
  const double x0 = coordinate(points, ring.begin, 0), y0 = coordinate(points, ring.begin, 1);
  double sum = 0, ax = 0, ay = 0;
  for (int i = ring.begin + 1; i < ring.end; ++i) {
    const double bx = coordinate(points, i, 0) - x0, by = coordinate(points, i, 1) - y0;
    sum += ax * by - bx * ay;
    ax = bx;
    ay = by;
  }
  return sum;
}

// Whether a vertex of `inner` lies in `outer`; vertices on its boundary do not decide.
bool ring_holds(const std::uint8_t* points, IndexRange outer, IndexRange inner) {
  StoreBuffer buffer;
  buffer.types = {3};
  buffer.part_types = {3};
  buffer.shape_parts = {0, 1};
  buffer.part_rings = {0, 1};
  buffer.ring_vertices = {0, outer.size()};
  for (int i = outer.begin; i < outer.end; ++i) {
    buffer.x.push_back(coordinate(points, i, 0));
    buffer.y.push_back(coordinate(points, i, 1));
  }
  const StoreView view = buffer.view();
  for (int i = inner.begin; i < inner.end; ++i) {
    const Location where = locate_in_shape(view, 0, coordinate(points, i, 0), coordinate(points, i, 1));
    if (where != Location::boundary) return where == Location::inside;
  }
  return false;
}

// Rings of a polygon record, grouped: each shell followed by its holes.
struct RingPlan {
  struct Placed {
    int ring;
    bool shell, reverse;
  };
  std::vector<Placed> order;
  bool rewound = false;  // the rings' directions did not tell shells from holes
};

RingPlan plan_rings(const RecordLayout& layout) {
  const auto* points = layout.points_begin();
  const int n = static_cast<int>(layout.parts);
  std::vector<double> area(n);
  for (int i = 0; i < n; ++i) area[i] = signed_area_twice(points, layout.part(i));
  RingPlan plan;
  // Shells run clockwise in this format, so that their area is negative.
  const int shells = static_cast<int>(std::count_if(area.begin(), area.end(), [](double a) { return a < 0; }));
  std::vector<Box> boxes(n);
  for (int i = 0; n > 1 && i < n; ++i)
    for (int v = layout.part(i).begin; v < layout.part(i).end; ++v)
      boxes[i].add(coordinate(points, v, 0), coordinate(points, v, 1));
  const bool first_holds_all =
      std::all_of(boxes.begin(), boxes.end(), [&](const Box& box) { return boxes[0].holds(box); });
  if (n == 1 || (shells == 1 && area[0] < 0 && first_holds_all)) {
    for (int i = 0; i < n; ++i) plan.order.push_back({i, i == 0, i == 0 ? area[i] < 0 : area[i] > 0});
    plan.rewound = n == 1 && area[0] > 0;
    return plan;
  }
  auto holds = [&](int outer, int inner) {
    return boxes[outer].holds(boxes[inner]) && ring_holds(points, layout.part(outer), layout.part(inner));
  };
  // The smallest shell that holds a ring owns it. Where directions tell nothing, rings at even depth are shells.
  std::vector<int> owner(n, -1);
  std::vector<char> shell(n);
  for (int i = 0; i < n; ++i) shell[i] = area[i] < 0;
  if (shells == 0) {
    plan.rewound = true;
    for (int i = 0; i < n; ++i) {
      int depth = 0;
      for (int j = 0; j < n; ++j) depth += j != i && std::fabs(area[j]) > std::fabs(area[i]) && holds(j, i);
      shell[i] = depth % 2 == 0;
    }
  }
  for (int i = 0; i < n; ++i) {
    if (shell[i]) continue;
    for (int j = 0; j < n; ++j) {
      if (!shell[j] || std::fabs(area[j]) < std::fabs(area[i])) continue;
      if (owner[i] >= 0 && std::fabs(area[j]) >= std::fabs(area[owner[i]])) continue;
      if (holds(j, i)) owner[i] = j;
    }
    if (owner[i] < 0) {
      shell[i] = true;
      plan.rewound = true;
    }
  }
  for (int j = 0; j < n; ++j) {
    if (!shell[j]) continue;
    plan.order.push_back({j, true, area[j] < 0});
    for (int i = 0; i < n; ++i)
      if (owner[i] == j) plan.order.push_back({i, false, area[i] > 0});
  }
  return plan;
}

}  // namespace

ShapefileHeader read_shapefile_header(const InputFile& shp) {
  if (shp.size() < header_size)
    throw FormatError("it has " + std::to_string(shp.size()) + " bytes, fewer than a shapefile's header of 100");
  const FileContent content = shp.read(0, header_size);
  const std::uint8_t* h = content.bytes().data();
  if (big32(h) != 9994)
    throw FormatError("it does not start with a shapefile's number 9994 (byte 0), so it is something else");
  const int type = little<std::int32_t>(h + 32);
  if (!known_type(type)) throw FormatError("it holds shapes of type " + type_text(type) + ", which cannot be read");
  const Box extent{little<double>(h + 36), little<double>(h + 44), little<double>(h + 52), little<double>(h + 60)};
  return {type, extent, std::size_t{big32(h + 24)} * 2};
}

ShapeKind kind_of_shapefile_type(int type) {
  switch (type % 10) {
    case point:
      return ShapeKind::point;
    case multipoint:
      return ShapeKind::multipoint;
    case polyline:
      return ShapeKind::multiline;
    default:
      return ShapeKind::multipolygon;
  }
}

void ShapefileReader::fail(std::size_t record, const std::string& what) const {
  throw FormatError("record " + std::to_string(record + 1) + " " + what + " (byte " +
                    std::to_string(records_[record].at()) + ")");
}

ShapefileReader::ShapefileReader(const InputFile& shp, const InputFile* shx, bool skip_damaged)
    : shp_(shp), skip_damaged_(skip_damaged), header_(read_shapefile_header(shp)) {
  z_ = header_.type / 10 == 1;
  m_ = header_.type / 10 == 2;
  if (shp.size() > std::size_t{2} * std::numeric_limits<std::uint32_t>::max())
    throw FormatError("it is longer than the 8 GB that the format can count");
  if (!shx || !read_index(*shx)) walk();
  if (records_.size() > static_cast<std::size_t>(std::numeric_limits<int>::max()))
    throw FormatError("it has more than 2147483647 records");
}

// Takes the records' places from the index file. False where it does not fit the main file: it is cut short, its
// entries share bytes, or a sample of them does not lead to a record's header.
bool ShapefileReader::read_index(const InputFile& shx) {
  auto refuse = [&] {
    records_ = {};
    notices_.add("index files (.shx) that do not fit were not used", "the records were found by walking the .shp file");
    return false;
  };
  if (shx.size() < header_size || (shx.size() - header_size) % record_header != 0) return refuse();
  std::uint8_t header[record_header];
  shx.read(0, record_header, header);
  if (big32(header) != 9994) return refuse();
  const std::size_t n = (shx.size() - header_size) / record_header;
  std::size_t end = header_size, total = header_size;
  bool fits = true;
  std::mutex lock;
  indexed_ = std::unique_ptr<Located[]>(new Located[n]);
  parallel_for(n, 1 << 16, [&](std::size_t first, std::size_t last) {
    auto* entries = reinterpret_cast<std::uint8_t*>(indexed_.get());  // as the file has them, then turned in place
    shx.read(header_size + record_header * first, record_header * (last - first), entries + record_header * first);
    std::size_t furthest = 0, length = 0;
    bool within = true;
    for (std::size_t i = first; i < last; ++i) {
      const std::uint8_t* entry = entries + record_header * i;
      const Located record{big32(entry) + record_header_words, big32(entry + 4)};
      within &= record.at() >= header_size && record.at() + record.length() <= shp_.size();
      furthest = std::max(furthest, record.at() + record.length());
      length += record_header + record.length();
      indexed_[i] = record;
    }
    const std::lock_guard<std::mutex> guard(lock);
    fits &= within;
    end = std::max(end, furthest);
    total += length;
  });
  records_ = {indexed_.get(), n};
  const std::size_t announced = header_.announced < header_size ? shp_.size() : header_.announced;
  if (!fits || end < std::min(announced, shp_.size()) || total > shp_.size()) return refuse();
  const std::size_t step = std::max<std::size_t>(1, n / 16);
  for (std::size_t i = 0; i < n; i += step) {
    shp_.read(records_[i].at() - record_header, record_header, header);
    if (std::size_t{big32(header + 4)} * 2 != records_[i].length()) return refuse();
  }
  return true;
}

void ShapefileReader::walk() {
  std::vector<std::uint32_t> numbers;
  FileWindow window(shp_, std::size_t{1} << 20);
  std::size_t at = header_size;
  while (at + record_header <= shp_.size()) {
    const std::uint8_t* header = window.at(at, record_header);
    const std::size_t length = std::size_t{big32(header + 4)} * 2;
    if (length < 4 || length > shp_.size() - at - record_header) break;
    numbers.push_back(big32(header));
    walked_.push_back({static_cast<std::uint32_t>(at / 2) + record_header_words, big32(header + 4)});
    at += record_header + length;
    if (walked_.size() % 65536 == 0) check_in(at, shp_.size());
  }
  if (at < shp_.size()) {
    const std::string what = "record " + std::to_string(walked_.size() + 1) + " is cut off or damaged (byte " +
                             std::to_string(at + record_header) + ")";
    if (!skip_damaged_) throw FormatError(what);
    notices_.add("files are cut off or damaged and were read as far as they are sound", what);
  }
  order_by_number(numbers);
  records_ = walked_;
}

// Records that lie out of order are put in the order of their numbers, where these are 1 to n.
void ShapefileReader::order_by_number(const std::vector<std::uint32_t>& numbers) {
  const std::size_t n = numbers.size();
  std::vector<Located> ordered(n);
  bool in_order = true;
  for (std::size_t i = 0; i < n; ++i) {
    in_order &= numbers[i] == i + 1;
    if (numbers[i] < 1 || numbers[i] > n || ordered[numbers[i] - 1].words_before != 0) return;
    ordered[numbers[i] - 1] = walked_[i];
  }
  if (in_order) return;
  walked_ = std::move(ordered);
  notices_.add("files with records out of order were put in the order of the records' numbers", "the .shp file");
}

std::vector<int> ShapefileReader::records_within(const Box& window) const {
  const std::size_t n = records_.size();
  std::vector<char> meets(n);
  auto test = [&](std::size_t record, const std::uint8_t* content) {
    const std::size_t length = records_[record].length();
    const int type = length < 4 ? 0 : little<std::int32_t>(content);
    if (type % 10 == point && length >= 20)
      meets[record] = window.holds(little<double>(content + 4), little<double>(content + 12));
    else if (type != null_shape && length >= box_end)
      meets[record] = window.meets({little<double>(content + 4), little<double>(content + 12),
                                    little<double>(content + 20), little<double>(content + 28)});
  };
  const bool long_records = n > 0 && shp_.size() / n > 4096;
  auto place_of_box = [&](std::size_t i) {
    return ByteRange{records_[i].at(), std::min<std::size_t>(records_[i].length(), box_end)};
  };
  if (long_records) {
    parallel_for(n, 4096, [&](std::size_t begin, std::size_t end) {
      std::uint8_t front[box_end];
      for (std::size_t i = begin; i < end; ++i) {
        shp_.read(records_[i].at(), place_of_box(i).length, front);
        test(i, front);
      }
    });
  } else {
    visit_items(shp_, n, place_of_box, [&](std::size_t, const auto& each) { each(test); });
  }
  std::vector<int> found;
  for (std::size_t i = 0; i < n; ++i)
    if (meets[i]) found.push_back(static_cast<int>(i));
  return found;
}

// Calls visit(group, each) for groups of chosen records; each(look) calls look(place among the chosen, content).
template <class Visit>
void ShapefileReader::visit_chosen(const Visit& visit) const {
  const auto place_of = [&](std::size_t i) {
    return ByteRange{records_[chosen_[i]].at(), records_[chosen_[i]].length()};
  };
  visit_items(shp_, chosen_.size(), place_of, visit);
}

void ShapefileReader::choose(std::vector<int> records) {
  chosen_ = std::move(records);
  sizes_.assign(chosen_.size(), {});
  std::atomic<bool> any_m{m_};
  std::mutex lock;
  visit_chosen([&](std::size_t, const auto& each) {
    bool has_m = any_m;
    each([&](std::size_t i, const std::uint8_t* content) {
      try {
        sizes_[i] = measure(content, chosen_[i], has_m);
      } catch (const FormatError& problem) {
        if (!skip_damaged_) throw;
        const std::lock_guard<std::mutex> guard(lock);
        notices_.add("records are damaged and became missing shapes", problem.what());
      }
    });
    if (has_m) any_m = true;
  });
  m_ = any_m;
  counts_ = {};
  counts_.z = z_;
  counts_.m = m_;
  shapes_.assign(chosen_.size(), -1);
  for (std::size_t i = 0; i < chosen_.size(); ++i) {
    const Size size = sizes_[i];
    sizes_[i].rings = counts_.rings;
    sizes_[i].vertices = counts_.vertices;
    if (size.null) continue;
    shapes_[i] = static_cast<int>(counts_.shapes++);
    counts_.rings += size.rings;
    counts_.vertices += size.vertices;
    if (counts_.vertices > static_cast<std::size_t>(std::numeric_limits<int>::max()))
      fail(chosen_[i], "goes beyond the 2147483647 vertices that a layer can hold");
  }
  counts_.parts = counts_.rings;
}

ShapefileReader::Size ShapefileReader::measure(const std::uint8_t* content, std::size_t record, bool& has_m) const {
  const std::size_t length = records_[record].length();
  if (length < 4) fail(record, "is cut off or damaged");
  const int type = little<std::int32_t>(content);
  if (type == null_shape) return {};
  if (type != header_.type)
    fail(record, "has shape type " + type_text(type) + " in a file of type " + type_text(header_.type));
  if (type % 10 == point && length < 20) fail(record, "is cut off");
  const RecordLayout layout(content, type, length);
  if (layout.end > length || layout.points > length / 16 || layout.parts > length / 4)
    fail(record, "announces more than it holds");

  const bool by_points = type % 10 == point || type % 10 == multipoint;
  Size size{by_points ? layout.points : layout.parts, layout.points, false};
  if (!by_points) {
    for (std::size_t i = 0; i < layout.parts; ++i) {
      const IndexRange part = layout.part(i);
      const bool first_is_zero = i > 0 || part.begin == 0;
      if (!first_is_zero || part.begin < 0 || part.end < part.begin ||
          static_cast<std::size_t>(part.end) > layout.points)
        fail(record, "has a part that lies outside its points");
      if (type % 10 == polygon && !is_closed(layout.points_begin(), part)) ++size.vertices;
    }
    if (layout.parts == 0) size.vertices = 0;
  }
  if (layout.m_at > 0)
    for (std::size_t i = 0; i < layout.points && !has_m; ++i)
      has_m = !std::isnan(measure_value(content + layout.m_at + 8 * i));
  return size;
}

std::vector<int> ShapefileReader::handles(int missing) const {
  std::vector<int> handles;
  handles.reserve(shapes_.size());
  for (const int shape : shapes_) handles.push_back(shape < 0 ? missing : shape + 1);
  return handles;
}

std::size_t ShapefileReader::decode(const StoreTarget& t) {
  std::mutex lock;
  extent_ = Box();
  visit_chosen([&](std::size_t, const auto& each) {
    Notices found;
    Box covered;
    each([&](std::size_t i, const std::uint8_t* content) {
      if (shapes_[i] >= 0) covered.add(decode_record(content, i, t, found));
    });
    const std::lock_guard<std::mutex> guard(lock);
    notices_.add(found);
    extent_.add(covered);
  });
  return close_gaps(t);
}

// Records left their parts' first rings at the place of their own first ring; closes the gaps between them.
std::size_t ShapefileReader::close_gaps(const StoreTarget& t) const {
  t.ring_vertices[counts_.rings] = static_cast<int>(counts_.vertices);
  t.shape_parts[0] = 0;
  const int family = header_.type % 10;
  const bool by_points = family == point || family == multipoint;
  int used = 0;
  for (std::size_t i = 0; i < chosen_.size(); ++i) {
    const int shape = shapes_[i];
    if (shape < 0) continue;
    const int parts = t.shape_parts[shape + 1];
    for (int k = 0; k < parts; ++k, ++used) t.part_rings[used] = t.part_rings[sizes_[i].rings + k];
    t.shape_parts[shape + 1] = used;
    const bool multi = parts > 1 || family == multipoint;
    const ShapeKind part = by_points ? ShapeKind::point : family == polygon ? ShapeKind::polygon : ShapeKind::line;
    t.types[shape] = type_code(multi ? multi_kind(part) : part, z_, m_);
    std::fill_n(t.part_types.begin() + used - parts, parts, static_cast<int>(part));
  }
  t.part_rings[used] = static_cast<int>(counts_.rings);
  return used;
}

namespace {

// Copies vertices of a record into the columns.
struct VertexCopier {
  const RecordLayout& layout;
  const StoreTarget& t;
  bool z, m;

  void copy(IndexRange from, std::size_t to) const {
    const std::uint8_t* points = layout.points_begin();
    for (int i = from.begin; i < from.end; ++i, ++to) {
      t.x[to] = coordinate(points, i, 0);
      t.y[to] = coordinate(points, i, 1);
      if (z) t.z[to] = little<double>(layout.content + layout.z_at + 8 * i);
      if (m) t.m[to] = layout.m_at ? measure_value(layout.content + layout.m_at + 8 * i) : nan_value;
    }
  }
};

}  // namespace

Box ShapefileReader::decode_record(const std::uint8_t* content, std::size_t at, const StoreTarget& t,
                                   Notices& notices) const {
  const int shape = shapes_[at], family = header_.type % 10;
  const std::size_t ring = sizes_[at].rings, vertex = sizes_[at].vertices;
  if (family == polyline || family == polygon) {
    decode_rings(content, at, t, notices);
  } else {
    const RecordLayout layout(content, header_.type, records_[chosen_[at]].length());
    VertexCopier{layout, t, z_, m_}.copy({0, static_cast<int>(layout.points)}, vertex);
    for (std::size_t i = 0; i < layout.points; ++i) {
      t.ring_vertices[ring + i] = static_cast<int>(vertex + i);
      t.part_rings[ring + i] = static_cast<int>(ring + i);
    }
    t.shape_parts[shape + 1] = static_cast<int>(layout.points);
  }

  const std::size_t end = at + 1 < sizes_.size() ? sizes_[at + 1].vertices : counts_.vertices;
  Box box;
  bool finite = true;
  for (std::size_t i = vertex; i < end; ++i) {
    box.add(t.x[i], t.y[i]);
    finite &= std::isfinite(t.x[i]) && std::isfinite(t.y[i]);
  }
  t.boxes[shape] = box;
  if (!finite) notices.add("shapes hold coordinates that are not finite", "record " + std::to_string(chosen_[at] + 1));
  return box;
}

void ShapefileReader::decode_rings(const std::uint8_t* content, std::size_t at, const StoreTarget& t,
                                   Notices& notices) const {
  const RecordLayout layout(content, header_.type, records_[chosen_[at]].length());
  const bool rings = header_.type % 10 == polygon;
  RingPlan plan;
  if (rings) {
    plan = plan_rings(layout);
  } else {
    for (std::size_t i = 0; i < layout.parts; ++i) plan.order.push_back({static_cast<int>(i), true, false});
  }
  auto where = [&] { return "record " + std::to_string(chosen_[at] + 1); };
  if (plan.rewound) notices.add("polygons had rings that run the wrong way", where());

  std::size_t ring = sizes_[at].rings, vertex = sizes_[at].vertices, parts = 0;
  const std::size_t first_part = ring;
  const VertexCopier copier{layout, t, z_, m_};
  for (const RingPlan::Placed& placed : plan.order) {
    if (placed.shell) t.part_rings[first_part + parts++] = static_cast<int>(ring);
    t.ring_vertices[ring++] = static_cast<int>(vertex);
    const IndexRange v = layout.part(placed.ring);
    const std::size_t start = vertex;
    copier.copy(v, vertex);
    vertex += v.size();
    if (rings && !is_closed(layout.points_begin(), v)) {
      notices.add("polygons had rings that were not closed", where());
      for (auto column : {t.x, t.y, t.z, t.m})
        if (!column.empty()) column[vertex] = column[start];
      ++vertex;
    }
    if (placed.reverse)
      for (auto column : {t.x, t.y, t.z, t.m})
        if (!column.empty()) std::reverse(column.begin() + start, column.begin() + vertex);
  }
  t.shape_parts[shapes_[at] + 1] = static_cast<int>(parts);
}

namespace {

// The family that all shapes share, as the format numbers it.
int common_type(const ShapeRows& rows) {
  int family = 0;
  bool z = false, m = false;
  for (int row = 0; row < rows.size(); ++row) {
    const int shape = rows[row];
    if (shape < 0) continue;
    const int type = rows.store.types[shape];
    int here = 0;
    switch (kind_of(type)) {
      case ShapeKind::point:
        here = point;
        break;
      case ShapeKind::multipoint:
        here = multipoint;
        break;
      case ShapeKind::line:
      case ShapeKind::multiline:
        here = polyline;
        break;
      case ShapeKind::polygon:
      case ShapeKind::multipolygon:
        here = polygon;
        break;
      default:
        throw ArgumentError("a shapefile cannot hold geometry collections (row " + std::to_string(row + 1) + ")");
    }
    const bool points = (family == point && here == multipoint) || (family == multipoint && here == point);
    if (family != 0 && here != family && !points)
      throw ArgumentError("a shapefile holds shapes of one kind; row " + std::to_string(row + 1) + " is a " +
                          kind_name(kind_of(type)) + " unlike those before it; write one file per kind");
    family = points ? static_cast<int>(multipoint) : here;
    z |= has_z(type);
    m |= has_m(type);
  }
  return family == 0 ? 0 : family + (z ? 10 : m ? 20 : 0);
}

class ShapefileEncoder {
 public:
  ShapefileEncoder(const ShapeRows& rows, ShapefileBytes& out)
      : rows_(rows), store_(rows.store), type_(common_type(rows)), out_(out) {}

  void encode() {
    check_size();
    out_.shp.resize(header_size);
    out_.shx.resize(header_size);
    for (int row = 0; row < rows_.size(); ++row) encode_row(row);
    header(out_.shp);
    header(out_.shx);
  }

 private:
  // Bytes that a row's record will take.
  std::size_t record_size(int shape) const {
    const std::size_t values = 2 + z() + m();
    if (shape < 0 || store_.shape_vertices(shape).size() == 0) return record_header + 4;
    if (type_ % 10 == point) return record_header + 4 + 8 * (2 + z() + (type_ >= 10));
    const std::size_t rings = type_ % 10 == multipoint ? 0 : store_.shape_rings(shape).size();
    return record_header + 44 + 4 * rings + 8 * values * store_.shape_vertices(shape).size() + 16 * (z() + m());
  }

  void check_size() {
    std::size_t size = header_size;
    for (int row = 0; row < rows_.size(); ++row) {
      size += record_size(rows_[row]);
      if (size > 0x7fffffffu)
        throw ArgumentError("a shapefile holds at most 2 GB; row " + std::to_string(row + 1) +
                            " goes beyond; write several files or a GeoPackage");
    }
    out_.shp.reserve(size);
    out_.shx.reserve(header_size + record_header * rows_.size());
  }

  void encode_row(int row) {
    const int shape = rows_[row];
    const bool empty = shape >= 0 && store_.shape_vertices(shape).size() == 0;
    if (empty) ++out_.empty;
    const std::size_t start = out_.shp.size();
    put_big32(out_.shp, row + 1);
    put_big32(out_.shp, 0);
    if (shape < 0 || empty) {
      put_little<std::int32_t>(out_.shp, null_shape);
    } else {
      put_little<std::int32_t>(out_.shp, type_);
      content(shape);
    }
    const std::size_t words = (out_.shp.size() - start - 8) / 2;
    for (int i = 0; i < 4; ++i) out_.shp[start + 4 + i] = static_cast<std::uint8_t>(words >> (24 - 8 * i));
    put_big32(out_.shx, static_cast<std::uint32_t>(start / 2));
    put_big32(out_.shx, static_cast<std::uint32_t>(words));
  }

  void put(double value) { put_little(out_.shp, value); }
  bool z() const { return type_ / 10 == 1; }
  bool m() const { return type_ >= 10 && (type_ / 10 == 2 || !store_.m.empty()); }
  double z_of(int v) const { return store_.z.empty() || std::isnan(store_.z[v]) ? 0 : store_.z[v]; }
  double m_of(int v) const { return store_.m.empty() || std::isnan(store_.m[v]) ? -1e39 : store_.m[v]; }

  void content(int shape) {
    const IndexRange all = store_.shape_vertices(shape);
    const Box& box = store_.boxes[shape];
    extent_.add(box);
    if (type_ % 10 == point) {
      put(store_.x[all.begin]);
      put(store_.y[all.begin]);
      if (z()) put(z_of(all.begin));
      if (type_ >= 10) put(m_of(all.begin));
      note_ranges(all);
      return;
    }
    for (double edge : {box.xmin, box.ymin, box.xmax, box.ymax}) put(box.empty() ? 0 : edge);
    plan_order(shape);
    if (type_ % 10 != multipoint) put_little<std::int32_t>(out_.shp, static_cast<int>(ring_sizes_.size()));
    put_little<std::int32_t>(out_.shp, static_cast<int>(order_.size()));
    if (type_ % 10 != multipoint) {
      int start = 0;
      for (int size : ring_sizes_) {
        put_little<std::int32_t>(out_.shp, start);
        start += size;
      }
    }
    for (int v : order_) {
      put(store_.x[v]);
      put(store_.y[v]);
    }
    if (z()) block([&](int v) { return z_of(v); });
    if (m()) block([&](int v) { return m_of(v); });
    note_ranges(all);
  }

  // Vertices in the order of the file: shells clockwise, holes counter-clockwise.
  void plan_order(int shape) {
    order_.clear();
    ring_sizes_.clear();
    const IndexRange parts = store_.parts(shape);
    for (int part = parts.begin; part < parts.end; ++part) {
      const IndexRange rings = store_.rings(part);
      for (int ring = rings.begin; ring < rings.end; ++ring) {
        const IndexRange v = store_.vertices(ring);
        const std::size_t start = order_.size();
        for (int i = v.begin; i < v.end; ++i) order_.push_back(i);
        ring_sizes_.push_back(v.size());
        if (store_.part_kind(part) != ShapeKind::polygon) continue;
        const double area = signed_area_twice(store_, v);
        const bool shell = ring == rings.begin;
        if (shell ? area > 0 : area < 0) std::reverse(order_.begin() + start, order_.end());
      }
    }
  }

  template <class Value>
  void block(const Value& value) {
    double low = HUGE_VAL, high = -HUGE_VAL;
    for (int v : order_) {
      low = std::min(low, value(v));
      high = std::max(high, value(v));
    }
    put(low);
    put(high);
    for (int v : order_) put(value(v));
  }

  void note_ranges(IndexRange v) {
    for (int i = v.begin; i < v.end; ++i) {
      if (z()) z_range_.add(z_of(i), 0);
      if (!store_.m.empty() && !std::isnan(store_.m[i])) m_range_.add(store_.m[i], 0);
    }
  }

  void header(std::vector<std::uint8_t>& file) {
    std::vector<std::uint8_t> head;
    put_big32(head, 9994);
    for (int i = 0; i < 5; ++i) put_big32(head, 0);
    put_big32(head, static_cast<std::uint32_t>(file.size() / 2));
    put_little<std::int32_t>(head, 1000);
    put_little<std::int32_t>(head, type_);
    for (double edge : {extent_.xmin, extent_.ymin, extent_.xmax, extent_.ymax})
      put_little(head, extent_.empty() ? 0 : edge);
    for (const Box& range : {z_range_, m_range_}) {
      put_little(head, range.empty() ? 0 : range.xmin);
      put_little(head, range.empty() ? 0 : range.xmax);
    }
    std::copy(head.begin(), head.end(), file.begin());
  }

  const ShapeRows& rows_;
  const StoreView& store_;
  int type_;
  ShapefileBytes& out_;
  Box extent_, z_range_, m_range_;
  std::vector<int> order_, ring_sizes_;
};

}  // namespace

ShapefileBytes encode_shapefile(const ShapeRows& rows) {
  ShapefileBytes out;
  ShapefileEncoder(rows, out).encode();
  return out;
}

std::string encoding_of_cpg(const std::string& text) {
  std::string name;
  for (char c : text)
    if (std::isalnum(static_cast<unsigned char>(c)) || c == '-' || c == '_')
      name += static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
  if (name == "UTF8" || name == "UTF-8" || name == "65001") return "UTF-8";
  if (name.rfind("ANSI", 0) == 0) name = name.substr(4);
  while (!name.empty() && (name[0] == '-' || name[0] == '_')) name.erase(0, 1);
  const bool digits =
      !name.empty() && std::all_of(name.begin(), name.end(), [](unsigned char c) { return std::isdigit(c); });
  if (digits && name.rfind("8859", 0) == 0 && name.size() > 4) return "ISO-8859-" + name.substr(4);
  if (digits) return "CP" + name;
  if (name.rfind("88591", 0) == 0 || name == "ISO88591" || name == "LATIN1") return "ISO-8859-1";
  return name;
}

std::string encoding_of_language_driver(int driver) {
  // dBASE language drivers by the code page each stands for.
  static const std::pair<int, const char*> pages[] = {
      {0x01, "CP437"},  {0x02, "CP850"},  {0x03, "CP1252"}, {0x57, "CP1252"}, {0x58, "CP1252"},
      {0x59, "CP1252"}, {0x08, "CP865"},  {0x64, "CP852"},  {0x65, "CP866"},  {0x66, "CP865"},
      {0x67, "CP861"},  {0x6a, "CP737"},  {0x6b, "CP857"},  {0x78, "CP950"},  {0x79, "CP949"},
      {0x7a, "CP936"},  {0x7b, "CP932"},  {0x7c, "CP874"},  {0x7d, "CP1255"}, {0x7e, "CP1256"},
      {0xc8, "CP1250"}, {0xc9, "CP1251"}, {0xca, "CP1254"}, {0xcb, "CP1253"}, {0xcc, "CP1257"}};
  for (const auto& [number, page] : pages)
    if (number == driver) return page;
  return "";
}

}  // namespace civic
