#include "property_column.h"

#include <cmath>
#include <limits>

#include "../shapes/store.h"
#include "../shapes/wkt.h"

namespace civic {

std::size_t PropertyColumn::size() const {
  switch (column_.type) {
    case ColumnType::empty:
      return blanks_;
    case ColumnType::logical:
    case ColumnType::integer:
      return column_.integers.size();
    case ColumnType::text:
      return column_.texts.size();
    default:
      return column_.reals.size();
  }
}

void PropertyColumn::push_missing() {
  switch (column_.type) {
    case ColumnType::empty:
      ++blanks_;
      break;
    case ColumnType::logical:
    case ColumnType::integer:
      column_.integers.push_back(missing_integer);
      break;
    case ColumnType::text:
      column_.texts.push_missing();
      break;
    default:
      column_.reals.push_back(nan_value);
  }
}

void PropertyColumn::pad(std::size_t row) {
  while (size() < row) push_missing();
}

void PropertyColumn::become_real() {
  for (int v : column_.integers) column_.reals.push_back(v == missing_integer ? nan_value : v);
  column_.integers = {};
  column_.type = ColumnType::real;
}

void PropertyColumn::become_text() {
  TextColumn texts;
  for (int v : column_.integers) {
    if (v == missing_integer)
      texts.push_missing();
    else if (column_.type == ColumnType::logical)
      texts.push(v ? "true" : "false");
    else
      texts.push(std::to_string(v));
  }
  for (double v : column_.reals) {
    std::string digits;
    if (!std::isnan(v)) write_number(v, -1, digits);
    if (digits.empty())
      texts.push_missing();
    else
      texts.push(digits);
  }
  column_.integers = {};
  column_.reals = {};
  column_.texts = std::move(texts);
  column_.type = ColumnType::text;
}

namespace {

// Gives an untyped column its type, with the missing values it starts with.
void start(Column& column, ColumnType type, std::size_t blanks) {
  column.type = type;
  if (type == ColumnType::text)
    for (std::size_t i = 0; i < blanks; ++i) column.texts.push_missing();
  else if (type == ColumnType::real)
    column.reals.assign(blanks, nan_value);
  else
    column.integers.assign(blanks, missing_integer);
}

}  // namespace

void PropertyColumn::set_logical(std::size_t row, bool value) {
  if (column_.type == ColumnType::empty) start(column_, ColumnType::logical, blanks_);
  pad(row);
  if (column_.type == ColumnType::logical) return column_.integers.push_back(value);
  set_text(row, value ? "true" : "false");
}

void PropertyColumn::set_integer(std::size_t row, std::int64_t value) {
  constexpr std::int64_t limit = std::numeric_limits<int>::max();
  const bool small = value >= -limit && value <= limit;
  if (column_.type == ColumnType::empty && small) start(column_, ColumnType::integer, blanks_);
  if (column_.type == ColumnType::integer && small) {
    pad(row);
    return column_.integers.push_back(static_cast<int>(value));
  }
  if (std::llabs(value) <= (1LL << 53)) return set_real(row, static_cast<double>(value));
  set_long(row, std::to_string(value));
}

void PropertyColumn::set_real(std::size_t row, double value) {
  if (column_.type == ColumnType::empty) start(column_, ColumnType::real, blanks_);
  pad(row);
  if (column_.type == ColumnType::integer) become_real();
  if (column_.type == ColumnType::real) return column_.reals.push_back(value);
  std::string digits;
  write_number(value, -1, digits);
  if (long_ && !mixed_) return column_.texts.push(digits);  // other long numbers made it text: nothing changed type
  set_text(row, digits);
}

void PropertyColumn::set_long(std::size_t row, std::string_view digits) {
  if (column_.type == ColumnType::empty) start(column_, ColumnType::text, blanks_);
  pad(row);
  const bool was_text = column_.type == ColumnType::text && !long_ && size() > blanks_;
  mixed_ |= was_text || column_.type == ColumnType::logical;
  long_ = true;
  if (column_.type != ColumnType::text) become_text();
  column_.texts.push(digits);
}

void PropertyColumn::set_text(std::size_t row, std::string_view value) {
  if (column_.type == ColumnType::empty) start(column_, ColumnType::text, blanks_);
  pad(row);
  if (column_.type != ColumnType::text) {
    become_text();
    mixed_ = true;
  }
  column_.texts.push(value);
}

void PropertyColumn::drop(std::size_t row) {
  if (size() <= row) return;
  if (column_.type == ColumnType::text)
    column_.texts.pop();
  else if (column_.type == ColumnType::real)
    column_.reals.pop_back();
  else if (column_.type != ColumnType::empty)
    column_.integers.pop_back();
}

Column PropertyColumn::finish(std::size_t rows, Notices& notices) {
  pad(rows);
  if (column_.type == ColumnType::empty) start(column_, ColumnType::logical, blanks_);
  if (mixed_) notices.add("properties change type between features and were kept as text", column_.name);
  if (long_) notices.add("properties with whole numbers beyond 2^53 were kept as text", column_.name);
  return std::move(column_);
}

}  // namespace civic
