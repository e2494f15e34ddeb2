// A column that grows as values of any JSON type arrive, widening its type where they disagree.
#pragma once
#include <cstdint>

#include "columns.h"

namespace civic {

class PropertyColumn {
 public:
  explicit PropertyColumn(std::string_view name) { column_.name = name; }
  const std::string& name() const { return column_.name; }

  void set_logical(std::size_t row, bool value);
  void set_integer(std::size_t row, std::int64_t value);
  void set_real(std::size_t row, double value);
  // A number beyond 2^53 that only text can hold.
  void set_long(std::size_t row, std::string_view digits);
  void set_text(std::size_t row, std::string_view value);
  bool wanted = true;  // else its values are passed over
  bool seen = false;   // some feature has it
  // Has the row, the last one, a value?
  bool holds(std::size_t row) const { return size() > row; }
  // Takes back the value of the last row, where one was set.
  void drop(std::size_t row);
  // Fills up to `rows` with missing values and hands the column over.
  Column finish(std::size_t rows, Notices& notices);

 private:
  std::size_t size() const;
  void pad(std::size_t row);
  void push_missing();
  void become_real();
  void become_text();
  Column column_;
  std::size_t blanks_ = 0;  // leading missing values before the first value gave the column its type
  bool mixed_ = false, long_ = false;
};

}  // namespace civic
