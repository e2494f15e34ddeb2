#include "dbase.h"

#include <algorithm>
#include <charconv>
#include <chrono>
#include <cmath>
#include <map>
#include <mutex>

#include "../base/error.h"
#include "../base/portable.h"
#include "../shapes/store.h"
#include "../shapes/wkt.h"
#include "visit_items.h"

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

// The number in a cell, blanks around it left out. Up to 15 digits with a point are exact as a whole number divided by
// a power of ten (Clinger 1990, "How to read floating point numbers accurately"); the rest is left to the library.
bool parse_number(std::string_view text, double& value) {
  static const double tens[] = {1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15};
  const char* at = text.data();
  const char* const end = at + text.size();
  const bool negative = at < end && *at == '-';
  if (at < end && (*at == '-' || *at == '+')) ++at;
  std::uint64_t digits = 0;
  int count = 0, decimals = -1;
  for (; at < end && count <= 15; ++at) {
    if (*at >= '0' && *at <= '9') {
      digits = 10 * digits + static_cast<std::uint64_t>(*at - '0');
      ++count;
      if (decimals >= 0) ++decimals;
    } else if (*at == '.' && decimals < 0) {
      decimals = 0;
    } else {
      break;
    }
  }
  if (at == end && count > 0 && count <= 15) {
    value = static_cast<double>(digits) / tens[std::max(decimals, 0)];
    if (negative) value = -value;
    return true;
  }
  if (!text.empty() && text.front() == '+') text.remove_prefix(1);
  const auto [stop, problem] = read_double(text.data(), end, value);
  return problem == std::errc() && stop == end && std::isfinite(value);
}

// Seconds since 1970-01-01 of a Julian day number and milliseconds of the day.
double julian_seconds(const std::uint8_t* cell) {
  const auto day = little<std::int32_t>(cell), milliseconds = little<std::int32_t>(cell + 4);
  return day == 0 ? nan_value : (day - 2440588.0) * 86400 + milliseconds / 1000.0;
}

}  // namespace

DbaseReader::DbaseReader(const InputFile& dbf, const InputFile* memo, bool skip_damaged) : dbf_(dbf) {
  if (dbf.size() < descriptor_size)
    throw FormatError("the table has " + std::to_string(dbf.size()) + " bytes, fewer than a dBASE header of 32");
  const FileContent front = dbf.read(0, descriptor_size);
  const std::uint8_t* h = front.bytes().data();
  const int version = h[0] & 7;
  if (version != 3 && version != 4 && version != 5 && h[0] != 0x30 && h[0] != 0x31 && h[0] != 0x32)
    throw FormatError("the table starts with byte " + std::to_string(h[0]) + ", which is no dBASE version (byte 0)");
  records_ = little<std::uint32_t>(h + 4);
  header_ = little<std::uint16_t>(h + 8);
  width_ = little<std::uint16_t>(h + 10);
  language_driver_ = h[29];
  if (width_ == 0 || header_ > dbf.size()) throw FormatError("the table's header is damaged (byte 8)");
  read_fields(dbf.read(0, header_).bytes());
  if (memo) {
    const bool foxpro = h[0] == 0x30 || h[0] == 0x31 || h[0] == 0x32 || h[0] == 0xf5;
    memo_ = std::make_unique<MemoFile>(*memo, foxpro         ? MemoFile::Kind::foxpro
                                              : h[0] == 0x83 ? MemoFile::Kind::dbase3
                                                             : MemoFile::Kind::dbase4);
  }
  const std::size_t held = (dbf.size() - header_) / width_;
  if (held < records_) {
    const std::string what = "the table announces " + std::to_string(records_) + " records and holds " +
                             std::to_string(held) + "; it is cut off in record " + std::to_string(held + 1) +
                             " (byte " + std::to_string(header_ + held * width_) + ")";
    if (!skip_damaged) throw FormatError(what);
    notices_.add("tables are cut off and were read as far as they go", what);
    records_ = held;
  }
  if (records_ > 0x7fffffff) throw FormatError("the table announces more than 2147483647 records (byte 4)");
}

void DbaseReader::read_fields(ByteSpan header) {
  std::size_t offset = 1;
  for (std::size_t at = descriptor_size; at < header.size() && header[at] != 0x0d; at += descriptor_size) {
    if (at + descriptor_size > header.size())
      throw FormatError("the table's list of fields is cut off (byte " + std::to_string(at) + ")");
    const auto* text = reinterpret_cast<const char*>(header.data() + at);
    Field field;
    field.name = without_padding(std::string_view(text, 11));
    field.type = text[11];
    field.width = header[at + 16];
    field.decimals = header[at + 17];
    if (field.type == 'C' && field.decimals > 0) {
      field.width += 256 * field.decimals;  // wide text keeps the high byte of its width here
      field.decimals = 0;
    }
    field.offset = offset;
    offset += field.width;
    if (field.type != '0') fields_.push_back(field);  // '0' is a hidden field of flags
  }
  if (offset > width_)
    throw FormatError("the table's fields take " + std::to_string(offset) + " bytes, its records " +
                      std::to_string(width_) + " (byte 10)");
}

// Calls visit(group, each) for groups of chosen records; each(look) calls look(place among the chosen, record's text).
template <class Visit>
void DbaseReader::visit(const std::vector<int>& records, const Visit& visit) const {
  const auto place_of = [&](std::size_t i) {
    return ByteRange{header_ + static_cast<std::size_t>(records[i]) * width_, width_};
  };
  visit_items(dbf_, records.size(), place_of, [&](std::size_t group, const auto& each) {
    visit(group, [&](const auto& look) {
      each([&](std::size_t i, const std::uint8_t* record) { look(i, reinterpret_cast<const char*>(record)); });
    });
  });
}

std::vector<int> DbaseReader::live(const std::vector<int>& records) const {
  std::vector<char> kept(records.size());
  visit(records, [&](std::size_t, const auto& each) {
    each([&](std::size_t i, const char* record) { kept[i] = *record != '*'; });
  });
  std::vector<int> out;
  out.reserve(records.size());
  for (std::size_t i = 0; i < records.size(); ++i)
    if (kept[i]) out.push_back(records[i]);
  return out;
}

namespace {

// What a group of records gives for one field, beside the values that go to the column by place.
struct Piece {
  TextColumn texts;
  bool whole = true, fits = true, exact = true;
  Notices notices;
};

ColumnType column_type_of(const DbaseReader::Field& field) {
  switch (field.type) {
    case 'N':
    case 'F':
    case 'Y':
      return ColumnType::real;
    case 'O':
      return field.width == 8 ? ColumnType::real : ColumnType::text;
    case 'B':
      return field.width == 8 ? ColumnType::real : ColumnType::text;
    case 'I':
    case '+':
      return field.width == 4 ? ColumnType::integer : ColumnType::text;
    case 'T':
    case '@':
      return field.width == 8 ? ColumnType::datetime : ColumnType::text;
    case 'L':
      return ColumnType::logical;
    case 'D':
      return ColumnType::date;
    default:
      return ColumnType::text;
  }
}

// Decodes the cells of one field.
class CellDecoder {
 public:
  CellDecoder(const DbaseReader::Field& field, const MemoFile* memo, Column& column)
      : field_(field), memo_(memo), column_(column) {}

  void decode(std::string_view cell, std::size_t row, std::size_t record, Piece& piece) const {
    const auto* bytes = reinterpret_cast<const std::uint8_t*>(cell.data());
    switch (column_.type) {
      case ColumnType::real:
        column_.reals[row] = field_.type == 'N' || field_.type == 'F' ? number(cell, record, piece)
                             : field_.type == 'Y' && cell.size() == 8
                                 ? static_cast<double>(little<std::int64_t>(bytes)) / 1e4
                             : cell.size() == 8 ? little<double>(bytes)
                                                : nan_value;
        break;
      case ColumnType::integer:
        column_.integers[row] = little<std::int32_t>(bytes);
        break;
      case ColumnType::datetime:
        column_.reals[row] = julian_seconds(bytes);
        break;
      case ColumnType::logical:
        column_.integers[row] = logical(cell, record, piece);
        break;
      case ColumnType::date:
        column_.reals[row] = date(cell, record, piece);
        break;
      default:
        text(cell, record, piece);
    }
  }

 private:
  void bad(const char* what, std::string_view cell, std::size_t record, Piece& piece) const {
    piece.notices.add("values of field " + field_.name + " are no " + what,
                      "\"" + std::string(trimmed(cell)) + "\" in record " + std::to_string(record + 1));
  }

  double number(std::string_view cell, std::size_t record, Piece& piece) const {
    cell = trimmed(cell);
    double value = nan_value;
    if (cell.empty()) return value;
    if (!parse_number(cell, value)) {
      bad("numbers", cell, record, piece);
      return nan_value;
    }
    piece.whole &= value == std::floor(value);
    piece.fits &= std::fabs(value) < 2147483648.0;
    piece.exact &= std::fabs(value) < exact_integers || cell == "9007199254740992" || cell == "-9007199254740992";
    return value;
  }

  int logical(std::string_view cell, std::size_t record, Piece& piece) const {
    const char c = cell.empty() ? ' ' : cell[0];
    if (c == 'T' || c == 't' || c == 'Y' || c == 'y') return 1;
    if (c == 'F' || c == 'f' || c == 'N' || c == 'n') return 0;
    if (c != ' ' && c != '?' && c != '\0') bad("logical values", cell, record, piece);
    return missing_integer;
  }

  double date(std::string_view cell, std::size_t record, Piece& piece) const {
    cell = trimmed(cell);
    const double days = parse_date(cell);
    if (std::isnan(days) && !cell.empty() && cell != "00000000") bad("dates", cell, record, piece);
    return days;
  }

  void text(std::string_view cell, std::size_t record, Piece& piece) const {
    if (field_.type == 'M') return memo(cell, record, piece);
    cell = field_.type == 'C' ? without_padding(cell) : trimmed(cell);
    if (cell.empty())
      piece.texts.push_missing();
    else
      piece.texts.push(cell);
  }

  void memo(std::string_view cell, std::size_t record, Piece& piece) const {
    double block = 0;
    if (cell.size() == 4)
      block = little<std::uint32_t>(reinterpret_cast<const std::uint8_t*>(cell.data()));
    else if (!trimmed(cell).empty() && !parse_number(trimmed(cell), block))
      bad("memo blocks", cell, record, piece);
    if (!(block >= 1 && block < 4294967296.0)) return piece.texts.push_missing();
    if (!memo_) {
      piece.notices.add("texts of memo field " + field_.name + " are missing, as the memo file (.dbt, .fpt) is",
                        "record " + std::to_string(record + 1));
      return piece.texts.push_missing();
    }
    try {
      piece.texts.push(memo_->text(static_cast<std::size_t>(block)));
    } catch (const LimitError&) {
      throw;
    } catch (const FormatError& problem) {
      piece.notices.add("texts of memo field " + field_.name + " cannot be read and are missing",
                        std::string(problem.what()) + ", record " + std::to_string(record + 1));
      piece.texts.push_missing();
    }
  }

  const DbaseReader::Field& field_;
  const MemoFile* memo_;
  Column& column_;
};

// A column of reals that all are whole and fit becomes one of integers.
void narrow(Column& column) {
  column.type = ColumnType::integer;
  column.integers.reserve(column.reals.size());
  for (double v : column.reals) column.integers.push_back(std::isnan(v) ? missing_integer : static_cast<int>(v));
  column.reals = {};
}

}  // namespace

std::vector<Column> DbaseReader::read(const std::vector<int>& fields, const std::vector<int>& records) {
  std::vector<Column> columns(fields.size());
  std::vector<CellDecoder> decoders;
  Notices found;
  for (std::size_t f = 0; f < fields.size(); ++f) {
    const Field& field = fields_[fields[f]];
    Column& column = columns[f];
    column.name = field.name;
    column.type = column_type_of(field);
    if (column.type == ColumnType::integer || column.type == ColumnType::logical)
      column.integers.resize(records.size());
    else if (column.type != ColumnType::text)
      column.reals.resize(records.size());
    else if (std::string_view("CM").find(field.type) == std::string_view::npos)
      found.add("fields of a type that is not read were kept as text", field.name);
    decoders.emplace_back(field, memo_.get(), column);
  }

  std::map<std::size_t, std::vector<Piece>> pieces;  // by group
  std::mutex lock;
  visit(records, [&](std::size_t number, const auto& each) {
    std::vector<Piece> here(fields.size());
    each([&](std::size_t i, const char* record) {
      for (std::size_t f = 0; f < fields.size(); ++f) {
        const Field& field = fields_[fields[f]];
        decoders[f].decode({record + field.offset, static_cast<std::size_t>(field.width)}, i, records[i], here[f]);
      }
    });
    const std::lock_guard<std::mutex> guard(lock);
    pieces.emplace(number, std::move(here));
  });

  for (std::size_t f = 0; f < fields.size(); ++f) {
    const Field& field = fields_[fields[f]];
    bool whole = field.decimals == 0, fits = true, exact = true;
    Notices cell_notices;
    for (auto& [number, piece] : pieces) {
      whole &= piece[f].whole;
      fits &= piece[f].fits;
      exact &= piece[f].exact || field.decimals > 0;
      cell_notices.add(piece[f].notices);
      columns[f].texts.append(piece[f].texts);
      piece[f].texts = {};
    }
    const bool number = field.type == 'N' || field.type == 'F';
    if (number && !exact) {
      columns[f] = read_text(fields[f], records);
      found.add("fields with whole numbers beyond 2^53 were kept as text", field.name);
      continue;
    }
    found.add(cell_notices);
    if (number && whole && fits) narrow(columns[f]);
  }
  note(found);
  return columns;
}

void DbaseReader::note(const Notices& notices) {
  const std::lock_guard<std::mutex> guard(notices_lock_);
  notices_.add(notices);
}

bool DbaseReader::holds_text(int field) const { return column_type_of(fields_[field]) == ColumnType::text; }

Column DbaseReader::read_text(int index, const std::vector<int>& records) {
  const Field& field = fields_[index];
  Column column;
  column.name = field.name;
  column.type = ColumnType::text;
  std::map<std::size_t, TextColumn> pieces;
  std::mutex lock;
  visit(records, [&](std::size_t number, const auto& each) {
    TextColumn texts;
    each([&](std::size_t, const char* record) {
      const std::string_view cell = trimmed({record + field.offset, static_cast<std::size_t>(field.width)});
      if (cell.empty())
        texts.push_missing();
      else
        texts.push(cell);
    });
    const std::lock_guard<std::mutex> guard(lock);
    pieces.emplace(number, std::move(texts));
  });
  for (const auto& [number, texts] : pieces) column.texts.append(texts);
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
      if (text.empty())
        notices.add("empty texts of column " + column_.name + " will read back as missing",
                    "row " + std::to_string(r + 1));
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
  const Date date = today();
  out.dbf[0] = 3;
  out.dbf[1] = static_cast<std::uint8_t>(date.year - 1900);
  out.dbf[2] = static_cast<std::uint8_t>(date.month);
  out.dbf[3] = static_cast<std::uint8_t>(date.day);
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
