#include "grid_shift.h"

#include <algorithm>
#include <cmath>

#include "../base/error.h"

namespace civic {
namespace {

constexpr std::size_t record_size = 16, header_records = 11;
constexpr double second = pi / 180 / 3600;

// Records of 16 bytes: a name of 8 and a value of 8, or four floats.
class RecordReader {
 public:
  explicit RecordReader(ByteSpan bytes) : bytes_(bytes) {
    if (bytes.size() < header_records * record_size)
      throw FormatError("the grid file has " + std::to_string(bytes.size()) + " bytes, fewer than its header of 176");
    if (name(0) != "NUM_OREC") throw FormatError("the file is no NTv2 grid: NUM_OREC is missing (byte 0)");
    swapped_ = integer(0) != 11;
    if (swapped_ && integer(0) != 11) throw FormatError("the grid file announces an unknown header (byte 8)");
  }
  bool holds(std::size_t record, std::size_t count) const {
    return record <= bytes_.size() / record_size && count <= bytes_.size() / record_size - record;
  }
  std::string name(std::size_t record) const { return trimmed(record * record_size); }
  std::string text(std::size_t record) const { return trimmed(record * record_size + 8); }
  int integer(std::size_t record) const { return get<std::int32_t>(record * record_size + 8); }
  double real(std::size_t record) const { return get<double>(record * record_size + 8); }
  float node(std::size_t record, int place) const { return get<float>(record * record_size + 4 * place); }

 private:
  std::string trimmed(std::size_t at) const {
    std::string out(reinterpret_cast<const char*>(bytes_.data() + at), 8);
    out.resize(std::min(out.find('\0'), out.size()));
    while (!out.empty() && out.back() == ' ') out.pop_back();
    return out;
  }
  template <class T>
  T get(std::size_t at) const {
    std::uint8_t raw[sizeof(T)];
    std::copy_n(bytes_.data() + at, sizeof(T), raw);
    if (swapped_) std::reverse(raw, raw + sizeof(T));
    return little<T>(raw);
  }
  ByteSpan bytes_;
  bool swapped_ = false;
};

std::string at_byte(std::size_t record) { return " (byte " + std::to_string(record * record_size) + ")"; }

double unit_of_shifts(const std::string& type) {
  if (type == "SECONDS") return 1;
  if (type == "MINUTES") return 60;
  if (type == "DEGREES") return 3600;
  throw FormatError("the grid file's shifts are in \"" + type + "\", which is none of SECONDS, MINUTES and DEGREES" +
                    at_byte(3));
}

int count_between(double low, double high, double step, std::size_t record) {
  const double count = std::round((high - low) / step) + 1;
  if (!(step > 0) || !(count >= 2) || count > 1e6 || std::fabs(low + (count - 1) * step - high) > step / 100)
    throw FormatError("the grid's limits and steps do not fit together" + at_byte(record));
  return static_cast<int>(count);
}

}  // namespace

std::shared_ptr<const GridShift> GridShift::read(ByteSpan bytes, std::string name) {
  const RecordReader records(bytes);
  auto out = std::make_shared<GridShift>();
  out->name_ = std::move(name);
  const double unit = unit_of_shifts(records.text(3));
  out->from_ = {records.text(5), records.real(7), records.real(8)};
  out->to_ = {records.text(6), records.real(9), records.real(10)};
  for (const System& s : {out->from_, out->to_})
    if (!(s.semi_major > 6e6 && s.semi_major < 7e6 && s.semi_minor > 6e6 && s.semi_minor <= s.semi_major))
      throw FormatError("the grid file's ellipsoids are not those of the Earth" + at_byte(7));
  const int count = records.integer(2);
  if (count < 1 || count > 100000) throw FormatError("the grid file announces no usable number of grids" + at_byte(2));

  double accuracy = 0;
  std::size_t nodes = 0;
  for (std::size_t at = header_records, g = 0; g < static_cast<std::size_t>(count); ++g) {
    if (!records.holds(at, header_records)) throw FormatError("the grid file is cut off" + at_byte(at));
    if (records.name(at) != "SUB_NAME") throw FormatError("a grid's header is missing" + at_byte(at));
    Grid grid{records.text(at),
              records.text(at + 1),
              records.real(at + 4) * unit,
              records.real(at + 5) * unit,
              records.real(at + 6) * unit,
              records.real(at + 7) * unit,
              records.real(at + 8) * unit,
              records.real(at + 9) * unit,
              0,
              0,
              {},
              {}};
    grid.rows = count_between(grid.south, grid.north, grid.latitude_step, at + 8);
    grid.columns = count_between(grid.east, grid.west, grid.longitude_step, at + 9);
    const auto size = static_cast<std::size_t>(grid.rows) * static_cast<std::size_t>(grid.columns);
    if (records.integer(at + 10) < 0 || static_cast<std::size_t>(records.integer(at + 10)) != size)
      throw FormatError("the grid's count of nodes does not fit its limits" + at_byte(at + 10));
    at += header_records;
    if (!records.holds(at, size)) throw FormatError("the grid file is cut off in grid " + grid.name + at_byte(at));
    grid.shifts.reserve(2 * size);
    for (std::size_t i = 0; i < size; ++i, ++at) {
      grid.shifts.push_back(static_cast<float>(records.node(at, 0) * unit));
      grid.shifts.push_back(static_cast<float>(records.node(at, 1) * unit));
      const float stated = records.node(at, 2);
      accuracy += stated > 0 && stated < 1000 ? stated : 0;
      ++nodes;
    }
    out->grids_.push_back(std::move(grid));
  }
  out->accuracy_ = accuracy / static_cast<double>(nodes);

  for (std::size_t g = 0; g < out->grids_.size(); ++g) {
    const std::string& parent = out->grids_[g].parent;
    const auto found =
        std::find_if(out->grids_.begin(), out->grids_.end(), [&](const Grid& grid) { return grid.name == parent; });
    if (found == out->grids_.end() || &*found == &out->grids_[g])
      out->coarsest_.push_back(static_cast<int>(g));
    else
      found->finer.push_back(static_cast<int>(g));
  }
  if (out->coarsest_.empty()) throw FormatError("every grid of the file names another as its parent");
  return out;
}

bool GridShift::is_of(const System& system, const Crs& crs) {
  const Ellipsoid& e = crs.datum.ellipsoid;
  if (std::fabs(system.semi_major - e.semi_major) > 0.1 ||
      std::fabs(system.semi_minor - e.semi_major * (1 - e.flattening())) > 0.1)
    return false;
  const std::string& geographic = crs.kind == CrsKind::projected ? crs.geographic_name : crs.name;
  return names_agree(system.name, crs.datum.name) || names_agree(system.name, geographic);
}

bool GridShift::Grid::holds(double west_longitude, double latitude) const {
  return west_longitude >= east && west_longitude <= west && latitude >= south && latitude <= north;
}

const GridShift::Grid* GridShift::finest(double west_longitude, double latitude) const {
  const Grid* best = nullptr;
  const std::vector<int>* among = &coarsest_;
  for (std::size_t depth = 0; depth <= grids_.size(); ++depth) {
    const auto next =
        std::find_if(among->begin(), among->end(), [&](int g) { return grids_[g].holds(west_longitude, latitude); });
    if (next == among->end()) break;
    best = &grids_[*next];
    among = &best->finer;
  }
  return best;
}

bool GridShift::forward(double& longitude, double& latitude) const {
  const double x = -longitude / second, y = latitude / second;
  const Grid* grid = finest(x, y);
  if (!grid) return false;
  const double column = (x - grid->east) / grid->longitude_step, row = (y - grid->south) / grid->latitude_step;
  const int c = std::min(static_cast<int>(column), grid->columns - 2),
            r = std::min(static_cast<int>(row), grid->rows - 2);
  const double u = column - c, v = row - r;
  const float* a = grid->shifts.data() + 2 * (static_cast<std::size_t>(r) * grid->columns + c);
  const float* b = a + 2 * grid->columns;
  auto between = [&](int i) { return (1 - v) * ((1 - u) * a[i] + u * a[i + 2]) + v * ((1 - u) * b[i] + u * b[i + 2]); };
  latitude += between(0) * second;
  longitude -= between(1) * second;
  return std::isfinite(latitude) && std::isfinite(longitude);
}

bool GridShift::inverse(double& longitude, double& latitude) const {
  double x = longitude, y = latitude;
  for (int round = 0; round < 20; ++round) {
    double to_x = x, to_y = y;
    if (!forward(to_x, to_y)) return false;
    const double dx = longitude - to_x, dy = latitude - to_y;
    x += dx;
    y += dy;
    if (std::fabs(dx) + std::fabs(dy) < 1e-15) break;
  }
  longitude = x;
  latitude = y;
  return true;
}

}  // namespace civic
