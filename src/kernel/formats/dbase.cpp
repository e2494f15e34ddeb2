#include "dbase.h"

#include <algorithm>
#include <charconv>
#include <chrono>
#include <cmath>
#include <ctime>

#include "../error.h"
#include "../shapes/store.h"
#include "../shapes/wkt.h"

namespace civic {
namespace {

constexpr std::size_t descriptor_size = 32;
constexpr double exact_integers = 9007199254740992.0;  // 2^53

std::string_view trimmed(std::string_view text) {
  auto idle = [](char c) { return c == ' ' || c == '\0' || c == '\t'; };
  while (!text.empty() && idle(text.back())) text.remove_suffix(1);
  while (!text.empty() && idle(text.front())) text.remove_prefix(1);
  return text;
}

std::string_view without_padding(std::string_view text) {
  text = text.substr(0, text.find('\0'));
  while (!text.empty() && text.back() == ' ') text.remove_suffix(1);
  return text;
}

// Days since 1970-01-01 of YYYYMMDD; NaN where it is no date.
double parse_date(std::string_view text) {
  int number = 0;
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (text.size() != 8 || problem != std::errc() || end != text.data() + 8) return nan_value;
  const std::chrono::year_month_day date{std::chrono::year(number / 10000), std::chrono::month(number / 100 % 100),
                                         std::chrono::day(number % 100)};
  if (!date.ok()) return nan_value;
  return static_cast<double>(std::chrono::sys_days(date).time_since_epoch().count());
}

bool parse_number(std::string_view text, double& value) {
  if (!text.empty() && text.front() == '+') text.remove_prefix(1);
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (problem != std::errc()) return false;
  return end == text.data() + text.size() && std::isfinite(value);
}

}  // namespace

DbaseReader::DbaseReader(ByteSpan dbf) : dbf_(dbf) {
  if (dbf.size() < descriptor_size)
    throw FormatError("the table has " + std::to_string(dbf.size()) + " bytes, fewer than a dBASE header of 32");
  const int version = dbf[0] & 7;
  if (version != 3 && version != 4 && version != 5)
    throw FormatError("the table starts with byte " + std::to_string(dbf[0]) + ", which is no dBASE version (byte 0)");
  records_ = little<std::uint32_t>(dbf.data() + 4);
  header_ = little<std::uint16_t>(dbf.data() + 8);
  width_ = little<std::uint16_t>(dbf.data() + 10);
  language_driver_ = dbf[29];
  std::size_t offset = 1;
  for (std::size_t at = descriptor_size; at < dbf.size() && dbf[at] != 0x0d; at += descriptor_size) {
    if (at + descriptor_size > dbf.size() || at + descriptor_size > header_)
      throw FormatError("the table's list of fields is cut off (byte " + std::to_string(at) + ")");
    const auto* text = reinterpret_cast<const char*>(dbf.data() + at);
    Field field;
    field.name = without_padding(std::string_view(text, 11));
    field.type = text[11];
    field.width = dbf[at + 16];
    field.decimals = dbf[at + 17];
    if (field.type == 'C' && field.decimals > 0) {
      field.width += 256 * field.decimals;  // wide text keeps the high byte of its width here
      field.decimals = 0;
    }
    field.offset = offset;
    offset += field.width;
    fields_.push_back(field);
  }
  if (offset > width_)
    throw FormatError("the table's fields take " + std::to_string(offset) + " bytes, its records " +
                      std::to_string(width_) + " (byte 10)");
  if (width_ == 0 || header_ > dbf.size()) throw FormatError("the table's header is damaged (byte 8)");
  const std::size_t held = (dbf.size() - header_) / width_;
  if (held < records_)
    throw FormatError("the table announces " + std::to_string(records_) + " records and holds " + std::to_string(held) +
                      "; it is cut off in record " + std::to_string(held + 1) + " (byte " +
                      std::to_string(header_ + held * width_) + ")");
}

std::vector<char> DbaseReader::deleted() const {
  std::vector<char> marks(records_);
  bool any = false;
  for (std::size_t r = 0; r < records_; ++r) any |= marks[r] = dbf_[header_ + r * width_] == '*';
  if (!any) marks.clear();
  return marks;
}

std::string_view DbaseReader::cell(const Field& field, std::size_t record) const {
  return {reinterpret_cast<const char*>(dbf_.data() + header_ + record * width_ + field.offset),
          static_cast<std::size_t>(field.width)};
}

namespace {

// Reads the cells of a numeric field: integers where all are whole and fit, else reals; text where whole numbers
// lie beyond what a real holds exactly.
class NumberField {
 public:
  NumberField(Column& column, bool whole) : column_(column), only_whole_(whole), whole_(whole) {}

  bool add(std::string_view text) {
    double value = nan_value;
    if (!text.empty() && !parse_number(text, value)) return false;
    whole_ = whole_ && (text.empty() || value == std::floor(value));
    fits_ = fits_ && (text.empty() || std::fabs(value) < 2147483648.0);
    exact_ = exact_ && (text.empty() || !only_whole_ || std::fabs(value) <= exact_integers);
    column_.reals.push_back(value);
    return true;
  }
  void add_missing() { column_.reals.push_back(nan_value); }
  bool exact() const { return exact_; }

  void finish() {
    column_.type = ColumnType::real;
    if (!whole_ || !fits_) return;
    column_.type = ColumnType::integer;
    column_.integers.reserve(column_.reals.size());
    for (double v : column_.reals) column_.integers.push_back(std::isnan(v) ? missing_integer : static_cast<int>(v));
    column_.reals = {};
  }

 private:
  Column& column_;
  const bool only_whole_;  // by the field's definition
  bool whole_, fits_ = true, exact_ = true;
};

}  // namespace

Column DbaseReader::column(std::size_t index, const std::vector<char>& dropped, Notices& notices) const {
  const Field& field = fields_[index];
  Column column;
  column.name = field.name;
  auto each = [&](const auto& visit) {
    for (std::size_t r = 0; r < records_; ++r)
      if (dropped.empty() || !dropped[r]) visit(cell(field, r), r);
  };
  auto bad = [&](const char* what, std::string_view text, std::size_t record) {
    notices.add("values of field " + field.name + " are no " + what,
                "\"" + std::string(trimmed(text)) + "\" in record " + std::to_string(record + 1));
  };
  auto read_text = [&] {
    column.type = ColumnType::text;
    each([&](std::string_view text, std::size_t) {
      text = field.type == 'C' ? without_padding(text) : trimmed(text);
      if (text.empty())
        column.texts.push_missing();
      else
        column.texts.push(text);
    });
  };
  switch (field.type) {
    case 'N':
    case 'F': {
      NumberField numbers(column, field.decimals == 0);
      Notices found;
      each([&](std::string_view text, std::size_t record) {
        if (numbers.add(trimmed(text))) return;
        numbers.add_missing();
        bad("numbers", text, record);
      });
      if (numbers.exact()) {
        numbers.finish();
      } else {
        column.reals = {};
        read_text();
        notices.add("fields with whole numbers beyond 2^53 were kept as text", field.name);
      }
      break;
    }
    case 'L':
      column.type = ColumnType::logical;
      each([&](std::string_view text, std::size_t record) {
        const char c = text.empty() ? ' ' : text[0];
        const bool yes = c == 'T' || c == 't' || c == 'Y' || c == 'y',
                   no = c == 'F' || c == 'f' || c == 'N' || c == 'n';
        if (!yes && !no && c != ' ' && c != '?' && c != '\0') bad("logical values", text, record);
        column.integers.push_back(yes ? 1 : no ? 0 : missing_integer);
      });
      break;
    case 'D':
      column.type = ColumnType::date;
      each([&](std::string_view text, std::size_t record) {
        const std::string_view date = trimmed(text);
        const double days = parse_date(date);
        if (std::isnan(days) && !date.empty() && date != "00000000") bad("dates", text, record);
        column.reals.push_back(days);
      });
      break;
    default:
      if (field.type != 'C') notices.add("fields of a type that is not read were kept as text", field.name);
      read_text();
  }
  return column;
}

namespace {

// One field of a table being written: its shape and its cells.
class FieldEncoder {
 public:
  FieldEncoder(const Column& column, std::size_t rows, Notices& notices) : column_(column) {
    cells_.resize(rows);
    switch (column.type) {
      case ColumnType::logical:
        type_ = 'L';
        for (std::size_t r = 0; r < rows; ++r)
          cells_[r] = column.integers[r] == missing_integer ? "?" : column.integers[r] ? "T" : "F";
        break;
      case ColumnType::integer:
        type_ = 'N';
        for (std::size_t r = 0; r < rows; ++r)
          if (column.integers[r] != missing_integer) cells_[r] = std::to_string(column.integers[r]);
        break;
      case ColumnType::date:
        type_ = 'D';
        for (std::size_t r = 0; r < rows; ++r) cells_[r] = date_text(column.reals[r]);
        break;
      case ColumnType::real:
        encode_reals(notices);
        break;
      default:
        encode_texts(notices);
    }
    for (const auto& cell : cells_) width_ = std::max(width_, cell.size());
    if (type_ == 'D') width_ = 8;
    width_ = std::max<std::size_t>(width_, 1);
  }

  std::size_t width() const { return width_; }

  void describe(std::vector<std::uint8_t>& out) const {
    std::uint8_t descriptor[descriptor_size] = {};
    std::memcpy(descriptor, column_.name.data(), std::min<std::size_t>(column_.name.size(), 10));
    descriptor[11] = static_cast<std::uint8_t>(type_);
    descriptor[16] = static_cast<std::uint8_t>(width_);
    descriptor[17] = static_cast<std::uint8_t>(decimals_);
    out.insert(out.end(), descriptor, descriptor + descriptor_size);
  }

  void write(std::size_t row, std::vector<std::uint8_t>& out) const {
    const std::string& cell = cells_[row];
    const std::size_t padding = width_ - cell.size();
    const bool right = type_ == 'N';
    if (right) out.insert(out.end(), padding, ' ');
    out.insert(out.end(), cell.begin(), cell.end());
    if (!right) out.insert(out.end(), padding, ' ');
  }

 private:
  static std::string date_text(double days) {
    if (std::isnan(days)) return "";
    const std::chrono::year_month_day date{
        std::chrono::sys_days(std::chrono::days(static_cast<int>(std::floor(days))))};
    char text[16];
    std::snprintf(text, sizeof text, "%04d%02u%02u", static_cast<int>(date.year()), static_cast<unsigned>(date.month()),
                  static_cast<unsigned>(date.day()));
    return text;
  }

  // Fixed notation where that holds every digit in 20 characters, else the shortest that reads back the same.
  void encode_reals(Notices& notices) {
    type_ = 'N';
    std::size_t whole_digits = 1;
    bool beyond_exact = false;  // readers take such whole numbers for identifiers, not for measurements
    for (std::size_t r = 0; r < cells_.size(); ++r) {
      const double value = column_.reals[r];
      if (std::isinf(value)) notices.add("infinite numbers were written as blanks", column_.name);
      if (!std::isfinite(value)) continue;
      beyond_exact |= std::fabs(value) > exact_integers;
      char text[400];
      const auto end = std::to_chars(text, text + sizeof text, value, std::chars_format::fixed).ptr;
      cells_[r].assign(text, end);
      const std::size_t point = cells_[r].find('.');
      if (point == std::string::npos) {
        whole_digits = std::max(whole_digits, cells_[r].size());
      } else {
        whole_digits = std::max(whole_digits, point);
        decimals_ = std::max(decimals_, cells_[r].size() - point - 1);
      }
    }
    if (whole_digits + 1 + decimals_ <= 20 && !beyond_exact) return pad_decimals();
    decimals_ = 15;
    for (std::size_t r = 0; r < cells_.size(); ++r)
      if (!cells_[r].empty()) {
        cells_[r].clear();
        write_number(column_.reals[r], -1, cells_[r]);
      }
  }

  void pad_decimals() {
    if (decimals_ == 0) return;
    for (std::string& cell : cells_) {
      if (cell.empty()) continue;
      std::size_t point = cell.find('.');
      if (point == std::string::npos) {
        point = cell.size();
        cell += '.';
      }
      cell.append(decimals_ - (cell.size() - point - 1), '0');
    }
  }

  void encode_texts(Notices& notices) {
    type_ = 'C';
    if (column_.type == ColumnType::empty) return;
    for (std::size_t r = 0; r < cells_.size(); ++r) {
      if (column_.texts.missing(r)) continue;
      std::string_view text = column_.texts[r];
      if (text.size() > 254) {
        std::size_t end = 254;
        while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xc0) == 0x80) --end;
        text = text.substr(0, end);
        notices.add("texts of column " + column_.name + " were cut to 254 bytes", "row " + std::to_string(r + 1));
      }
      cells_[r] = text;
    }
  }

  const Column& column_;
  char type_ = 'C';
  std::size_t width_ = 0, decimals_ = 0;
  std::vector<std::string> cells_;
};

}  // namespace

DbaseBytes encode_dbase(const std::vector<Column>& columns, std::size_t rows) {
  if (columns.size() > 255)
    throw ArgumentError("a dBASE table holds at most 255 fields; the frame has " + std::to_string(columns.size()));
  DbaseBytes out;
  std::vector<FieldEncoder> fields;
  std::size_t width = 1;
  for (const Column& column : columns) {
    fields.emplace_back(column, rows, out.notices);
    width += fields.back().width();
  }
  const std::size_t header = descriptor_size * (1 + fields.size()) + 1;
  if (width > 65535)
    throw ArgumentError("a dBASE record holds at most 65535 bytes; the columns take " + std::to_string(width));
  if (header + width * rows > 0x7fffffffu)
    throw ArgumentError("a dBASE table holds at most 2 GB; write fewer rows or columns");

  out.dbf.reserve(header + width * rows + 1);
  out.dbf.resize(descriptor_size);
  const std::time_t now = std::time(nullptr);
  std::tm today{};
  gmtime_r(&now, &today);
  out.dbf[0] = 3;
  out.dbf[1] = static_cast<std::uint8_t>(today.tm_year);
  out.dbf[2] = static_cast<std::uint8_t>(today.tm_mon + 1);
  out.dbf[3] = static_cast<std::uint8_t>(today.tm_mday);
  std::vector<std::uint8_t> sizes;
  put_little<std::uint32_t>(sizes, static_cast<std::uint32_t>(rows));
  put_little<std::uint16_t>(sizes, static_cast<std::uint16_t>(header));
  put_little<std::uint16_t>(sizes, static_cast<std::uint16_t>(width));
  std::copy(sizes.begin(), sizes.end(), out.dbf.begin() + 4);
  for (const auto& field : fields) field.describe(out.dbf);
  out.dbf.push_back(0x0d);
  for (std::size_t row = 0; row < rows; ++row) {
    out.dbf.push_back(' ');
    for (const auto& field : fields) field.write(row, out.dbf);
  }
  out.dbf.push_back(0x1a);
  return out;
}

}  // namespace civic
