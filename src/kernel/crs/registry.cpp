#include "registry.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstdlib>
#include <tuple>

#include "../base/error.h"
#include "../base/portable.h"

namespace civic {
namespace {

// The fields of a text, one after the other.
class Fields {
 public:
  Fields(std::string_view text, char at) : rest_(text), at_(at) {}
  bool more() const { return more_; }
  std::string_view next() {
    const std::size_t end = rest_.find(at_);
    const std::string_view field = rest_.substr(0, end);
    more_ = end != std::string_view::npos;
    rest_.remove_prefix(more_ ? end + 1 : rest_.size());
    return field;
  }
  Fields& skip(int count) {
    while (count-- > 0) next();
    return *this;
  }

 private:
  std::string_view rest_;
  char at_;
  bool more_ = true;
};

std::vector<std::string_view> split(std::string_view text, char at) {
  std::vector<std::string_view> fields;
  for (Fields left(text, at); left.more();) fields.push_back(left.next());
  return fields;
}

template <class T>
T number(std::string_view text) {
  T value{};
  if constexpr (std::is_same_v<T, double>)
    read_double(text.data(), text.data() + text.size(), value);
  else
    std::from_chars(text.data(), text.data() + text.size(), value);
  return value;
}

// Whether two numbers differ by two neighbouring digits that have changed places.
bool is_transposed(int a, int b) {
  std::string from = std::to_string(a);
  const std::string to = std::to_string(b);
  for (std::size_t i = 0; i + 1 < from.size(); ++i) {
    std::swap(from[i], from[i + 1]);
    if (from == to && from[i] != from[i + 1]) return true;
    std::swap(from[i], from[i + 1]);
  }
  return false;
}

std::string_view second_field(std::string_view record) { return Fields(record, '\t').skip(1).next(); }

}  // namespace

Registry Registry::load(const std::string& path) {
  Registry registry;
  registry.text_ = read_gzip(path);
  std::string_view rest = registry.text_;
  while (!rest.empty()) {
    const std::size_t end = std::min(rest.find('\n'), rest.size());
    const Record record = rest.substr(0, end);
    rest.remove_prefix(std::min(end + 1, rest.size()));
    if (record.size() < 2) continue;
    switch (record[0]) {
      case 'D':
        registry.datums_.push_back(record);
        break;
      case 'M':
        registry.methods_.push_back(record);
        break;
      case 'A':
        registry.areas_.push_back(record);
        break;
      default:
        registry.rows_.emplace_back(number<int>(second_field(record)), record);
    }
  }
  std::sort(registry.rows_.begin(), registry.rows_.end());
  registry.index_datum_names();
  return registry;
}

std::optional<Crs> Registry::find(int code) const {
  const auto at = std::lower_bound(rows_.begin(), rows_.end(), code,
                                   [](const auto& row, int wanted) { return row.first < wanted; });
  if (at == rows_.end() || at->first != code) return std::nullopt;
  return parse(at->second);
}

Datum Registry::parse_datum(int id) const {
  const auto f = split(datums_.at(id - 1), '\t');
  Datum datum;
  datum.name = f[2];
  datum.ellipsoid = {std::string(f[3]), number<double>(f[4]), number<double>(f[5])};
  if (!f[6].empty()) {
    const auto values = split(f[6], ',');
    DatumShift shift{};
    for (std::size_t i = 0; i < shift.size(); ++i) shift[i] = number<double>(values.at(i));
    datum.shift = shift;
  }
  datum.shift_accuracy = number<double>(f[7]);
  datum.wants_grid = f[8] == "yes";
  return datum;
}

AreaOfUse Registry::parse_area(Record box, Record id) const {
  const auto edges = split(box, ',');
  AreaOfUse area{number<double>(edges.at(0)), number<double>(edges.at(1)), number<double>(edges.at(2)),
                 number<double>(edges.at(3)), ""};
  area.text = split(areas_.at(number<int>(id) - 1), '\t').at(2);
  return area;
}

Crs Registry::parse(Record record) const {
  const auto f = split(record, '\t');
  Crs crs;
  switch (record[0]) {
    case 'G':
      crs.kind = CrsKind::geographic;
      crs.datum = parse_datum(number<int>(f[3]));
      crs.meridian = f[4];
      crs.meridian_degrees = number<double>(f[5]);
      crs.unit = f[6];
      crs.unit_size = crs.angular_unit = number<double>(f[7]);
      crs.area = parse_area(f[8], f[9]);
      crs.has_heights = f.size() > 10;
      break;
    case 'X':
      crs.kind = CrsKind::geocentric;
      crs.datum = parse_datum(number<int>(f[3]));
      crs.area = parse_area(f[4], f[5]);
      break;
    case 'C': {
      const auto horizontal = find(number<int>(f[3]));
      if (!horizontal) throw CrsError("the registry lacks the horizontal part of EPSG:" + std::string(f[1]));
      crs = *horizontal;  // heights are left as they are, so that only the horizontal part counts
      crs.area = parse_area(f[4], f[5]);
      break;
    }
    default: {
      crs = *find(number<int>(f[3]));
      crs.kind = CrsKind::projected;
      crs.geographic_name = crs.name;
      crs.geographic_code = crs.code;
      crs.angular_unit = crs.unit_size;
      const auto method = split(methods_.at(number<int>(f[4]) - 1), '\t');
      crs.method = method.at(2);
      const auto names = split(method.at(3), ';'), values = split(f[5], ';');
      for (std::size_t i = 0; i < names.size(); ++i)
        crs.parameters.emplace_back(std::string(names[i]), number<double>(values.at(i)));
      crs.unit = f[6];
      crs.unit_size = number<double>(f[7]);
      crs.area = parse_area(f[8], f[9]);
    }
  }
  crs.name = f[2];
  crs.code = "EPSG:" + std::string(f[1]);
  return crs;
}

// Whether a projected record has the method, unit and parameters of `crs`, without parsing the rest of it.
bool Registry::same_projection(Record record, const Crs& crs) const {
  Fields fields(record, '\t');
  Fields method(methods_.at(number<int>(fields.skip(4).next()) - 1), '\t');
  if (method.skip(2).next() != crs.method) return false;
  Fields names(method.next(), ';'), values(fields.next(), ';');
  if (std::fabs(number<double>(fields.skip(1).next()) - crs.unit_size) > 1e-9 * crs.unit_size) return false;
  const auto is_near = [](double a, double b) { return std::fabs(a - b) <= 1e-9 * std::max(1.0, std::fabs(a)); };
  bool in_order = true, swapped = true;
  while (names.more()) {
    const std::string_view name = names.next(), twin = twin_parameter(crs.method, name);
    const double value = number<double>(values.next());
    in_order = in_order && is_near(value, crs.parameter(name, name == "scale_factor" ? 1 : 0));
    swapped = swapped && is_near(value, crs.parameter(twin.empty() ? name : twin, name == "scale_factor" ? 1 : 0));
  }
  return in_order || swapped;
}

int Registry::match(const Crs& crs) const {
  const char kind = crs.kind == CrsKind::projected ? 'P' : crs.kind == CrsKind::geographic ? 'G' : 'X';
  int with_heights = 0;
  for (const auto& [code, record] : rows_) {
    if (record[0] != kind || (kind == 'P' && !same_projection(record, crs))) continue;
    const Crs row = parse(record);
    if (!same_meaning(row, crs)) continue;
    if (!row.has_heights) return code;
    if (with_heights == 0) with_heights = code;
  }
  return with_heights;
}

std::optional<Datum> Registry::find_datum(const Datum& wanted, int geographic_code) const {
  auto same_ellipsoid = [&](const Datum& datum) {
    return std::fabs(datum.ellipsoid.semi_major - wanted.ellipsoid.semi_major) < 1e-3 &&
           std::fabs(datum.ellipsoid.inverse_flattening - wanted.ellipsoid.inverse_flattening) < 1e-5;
  };
  if (geographic_code != 0)
    if (const auto crs = find(geographic_code); crs && same_ellipsoid(crs->datum)) return crs->datum;
  const auto [first, last] = datum_names_.equal_range(datum_key(wanted.name));
  for (auto at = first; at != last; ++at)
    if (Datum datum = parse_datum(at->second); same_ellipsoid(datum)) return datum;
  return std::nullopt;
}

// Datums first, so that their own names win.
void Registry::index_datum_names() {
  for (std::size_t id = 1; id <= datums_.size(); ++id)
    datum_names_.emplace(datum_key(std::string(split(datums_[id - 1], '\t')[2])), static_cast<int>(id));
  for (const auto& [code, record] : rows_) {
    if (record[0] != 'G') continue;
    const auto f = split(record, '\t');
    datum_names_.emplace(datum_key(std::string(f[2])), number<int>(f[3]));
  }
}

std::vector<int> Registry::codes() const {
  std::vector<int> out;
  for (const auto& row : rows_) out.push_back(row.first);
  return out;
}

std::vector<int> Registry::codes_near(int code, int count) const {
  std::vector<int> codes = this->codes();
  const auto rank = [&](int other) {
    return std::tuple(!is_transposed(code, other), std::labs(static_cast<long>(other) - code), other);
  };
  std::sort(codes.begin(), codes.end(), [&](int a, int b) { return rank(a) < rank(b); });
  codes.resize(std::min<std::size_t>(codes.size(), count));
  return codes;
}

}  // namespace civic
