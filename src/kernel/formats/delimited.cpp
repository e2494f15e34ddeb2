#include "delimited.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <deque>
#include <limits>

#include "../base/error.h"
#include "../base/portable.h"
#include "../base/progress.h"

namespace civic {
namespace {

struct Field {
  std::string_view text;
  bool quoted = false;
};

class DelimitedReader {
 public:
  DelimitedReader(ByteSpan text, char separator, bool skip_damaged)
      : text_(reinterpret_cast<const char*>(text.data()), text.size()), separator_(separator), skip_(skip_damaged) {}

  DelimitedTable read() {
    if (!next_record()) throw FormatError("it is empty");
    for (const Field& field : fields_) {
      table_.columns.emplace_back().name = std::string(field.text);
      table_.columns.back().type = ColumnType::text;
    }
    while (at_ < text_.size()) {
      const std::size_t line = line_;
      try {
        if (next_record()) add_row(line);
      } catch (const FormatError& problem) {
        if (!skip_) throw;
        table_.notices.add("lines cannot be read and were left out", problem.what());
      }
      if (table_.lines % 65536 == 0) check_in(at_, text_.size());
    }
    return std::move(table_);
  }

 private:
  [[noreturn]] static void fail(std::size_t line, const std::string& what) {
    throw FormatError("line " + std::to_string(line) + " " + what);
  }

  void add_row(std::size_t line) {
    ++table_.lines;
    if (fields_.size() != table_.columns.size())
      fail(line, "has " + std::to_string(fields_.size()) + " fields, the header " +
                     std::to_string(table_.columns.size()) + "; quote fields that hold the separator");
    for (std::size_t c = 0; c < fields_.size(); ++c) {
      TextColumn& texts = table_.columns[c].texts;
      if (fields_[c].text.empty() && !fields_[c].quoted)
        texts.push_missing();
      else
        texts.push(fields_[c].text);
    }
  }

  // Reads the fields of one record; false for a blank line where the table has several columns.
  bool next_record() {
    fields_.clear();
    spare_.clear();
    while (true) {
      read_field();
      if (at_ >= text_.size() || text_[at_] != separator_) break;
      ++at_;
    }
    end_line();
    const bool blank = fields_.size() == 1 && fields_[0].text.empty() && !fields_[0].quoted;
    return !blank || table_.columns.size() == 1;
  }

  void read_field() {
    if (at_ < text_.size() && text_[at_] == '"') return read_quoted();
    const std::size_t start = at_;
    while (at_ < text_.size() && text_[at_] != separator_ && text_[at_] != '\n' && text_[at_] != '\r') ++at_;
    fields_.push_back({text_.substr(start, at_ - start)});
  }

  // A quote within is written twice.
  void read_quoted() {
    const std::size_t line = line_, start = ++at_;
    bool doubled = false;
    while (true) {
      const std::size_t quote = text_.find('"', at_);
      if (quote == text_.npos) {
        at_ = text_.size();
        fail(line, "has a quote that does not end");
      }
      for (std::size_t i = at_; i < quote; ++i) line_ += text_[i] == '\n';
      at_ = quote + 1;
      if (at_ >= text_.size() || text_[at_] != '"') break;
      doubled = true;
      ++at_;
    }
    std::string_view inside = text_.substr(start, at_ - 1 - start);
    if (doubled) inside = undoubled(inside);
    fields_.push_back({inside, true});
    if (at_ < text_.size() && text_[at_] != separator_ && text_[at_] != '\n' && text_[at_] != '\r') {
      at_ = std::min(text_.find('\n', at_), text_.size());
      end_line();
      fail(line, "has text after a closing quote");
    }
  }

  std::string_view undoubled(std::string_view inside) {
    std::string& out = spare_.emplace_back();
    for (std::size_t i = 0; i < inside.size(); ++i) {
      out += inside[i];
      if (inside[i] == '"') ++i;
    }
    return out;
  }

  // Passes over LF, CR LF or CR.
  void end_line() {
    if (at_ >= text_.size()) return;
    at_ += text_[at_] == '\r' && at_ + 1 < text_.size() && text_[at_ + 1] == '\n' ? 2 : 1;
    ++line_;
  }

  const std::string_view text_;
  const char separator_;
  const bool skip_;
  std::size_t at_ = 0, line_ = 1;
  std::vector<Field> fields_;
  std::deque<std::string> spare_;  // fields whose quotes were written twice
  DelimitedTable table_;
};

}  // namespace

DelimitedTable read_delimited(ByteSpan text, char separator, bool skip_damaged) {
  return DelimitedReader(text, separator, skip_damaged).read();
}

namespace {

constexpr double infinity = std::numeric_limits<double>::infinity();
constexpr double most_whole = 9007199254740992;  // 2^53, from which on not every whole number is a double

std::string_view without_blanks(std::string_view text) {
  const auto is_blank = [](char c) { return c == ' ' || (c >= '\t' && c <= '\r'); };
  while (!text.empty() && is_blank(text.front())) text.remove_prefix(1);
  while (!text.empty() && is_blank(text.back())) text.remove_suffix(1);
  return text;
}

// A number, blanks around it apart. False for any other text; `whole` stays true where it has neither point nor
// exponent.
bool read_plain_number(std::string_view text, double& value, bool& whole) {
  text = without_blanks(text);
  const bool minus = text.starts_with('-');
  if (minus || text.starts_with('+')) text.remove_prefix(1);
  std::size_t at = 0;
  const auto digits = [&] {
    const std::size_t first = at;
    while (at < text.size() && text[at] >= '0' && text[at] <= '9') ++at;
    return at - first;
  };
  const std::size_t before = digits();
  if (before > 1 && text[0] == '0') return false;
  std::size_t after = 0;
  if (at < text.size() && text[at] == '.') {
    whole = false;
    ++at;
    after = digits();
  }
  if (before + after == 0) return false;
  if (at < text.size() && (text[at] == 'e' || text[at] == 'E')) {
    whole = false;
    ++at;
    if (at < text.size() && (text[at] == '-' || text[at] == '+')) ++at;
    if (digits() == 0) return false;
  }
  if (at != text.size()) return false;
  const auto read = read_double(text.data(), text.data() + text.size(), value);
  if (read.ec == std::errc::result_out_of_range)
    value = text.find("e-") == std::string_view::npos && text.find("E-") == std::string_view::npos ? infinity : 0;
  if (minus) value = -value;
  return true;
}

}  // namespace

void settle_numbers(Column& column) {
  if (column.type != ColumnType::text) return;
  const std::size_t n = column.texts.size();
  std::vector<double> values(n, std::numeric_limits<double>::quiet_NaN());
  bool whole = true, some = false, fit = true;
  for (std::size_t i = 0; i < n; ++i) {
    if (column.texts.missing(i)) continue;
    if (const std::string_view text = without_blanks(column.texts[i]); text.empty() || text == "NA") continue;
    if (!read_plain_number(column.texts[i], values[i], whole)) return;
    some = true;
    fit = fit && std::abs(values[i]) <= 2147483647;
  }
  const auto is_beyond = [](double value) { return std::abs(value) >= most_whole; };
  if (!some || (whole && std::any_of(values.begin(), values.end(), is_beyond))) return;
  column.texts = {};
  if (!whole || !fit) {
    column.type = ColumnType::real;
    column.reals = std::move(values);
    return;
  }
  column.type = ColumnType::integer;
  column.integers.reserve(n);
  for (const double value : values)
    column.integers.push_back(std::isnan(value) ? missing_integer : static_cast<int>(value));
}

std::size_t whole_records(ByteSpan text, bool quoted, bool first) {
  std::size_t end = 0;
  bool within = false;
  for (std::size_t at = 0; at < text.size(); ++at) {
    if (quoted && text[at] == '"') within = !within;
    if (text[at] != '\n' || within) continue;
    end = at + 1;
    if (first) break;
  }
  return end;
}

}  // namespace civic
