// Attribute columns as decoders build them and writers read them.
#pragma once
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace civic {

enum class ColumnType { empty, logical, integer, real, text, date, datetime };

// Strings one after the other in one block; an entry may be missing.
class TextColumn {
 public:
  void push(std::string_view text) {
    block_.append(text);
    ends_.push_back(block_.size());
    missing_.push_back(0);
  }
  void push_missing() {
    ends_.push_back(block_.size());
    missing_.push_back(1);
  }
  void append(const TextColumn& other) {
    const std::size_t start = block_.size();
    block_.append(other.block_);
    for (const std::size_t end : other.ends_) ends_.push_back(start + end);
    missing_.insert(missing_.end(), other.missing_.begin(), other.missing_.end());
  }
  void pop() {
    ends_.pop_back();
    missing_.pop_back();
    block_.resize(ends_.empty() ? 0 : ends_.back());
  }
  std::size_t size() const { return ends_.size(); }
  bool missing(std::size_t row) const { return missing_[row]; }
  std::string_view operator[](std::size_t row) const {
    const std::size_t begin = row == 0 ? 0 : ends_[row - 1];
    return std::string_view(block_).substr(begin, ends_[row] - begin);
  }

 private:
  std::string block_;
  std::vector<std::size_t> ends_;
  std::vector<char> missing_;
};

constexpr int missing_integer = -2147483647 - 1;  // R's NA_integer_, for logical and integer columns

// One column; the member named by `type` holds the values. Missing reals are NaN; dates are days, datetimes seconds
// since 1970-01-01.
struct Column {
  std::string name;
  ColumnType type = ColumnType::empty;
  std::vector<int> integers;  // logical and integer
  std::vector<double> reals;  // real, date and datetime
  TextColumn texts;
};

// Something a decoder met and went on from: what, how often, and where first.
struct Notice {
  std::string what;
  std::size_t count = 0;
  std::string first;
};

// Notices gathered by kind.
class Notices {
 public:
  void add(const std::string& what, const std::string& where) {
    for (Notice& notice : all_)
      if (notice.what == what) return void(++notice.count);
    all_.push_back({what, 1, where});
  }
  void add(const Notices& other) {
    for (const Notice& notice : other.all_) {
      add(notice.what, notice.first);
      find(notice.what).count += notice.count - 1;
    }
  }
  const std::vector<Notice>& all() const { return all_; }

 private:
  Notice& find(const std::string& what) {
    for (Notice& notice : all_)
      if (notice.what == what) return notice;
    return all_.back();
  }
  std::vector<Notice> all_;
};

}  // namespace civic
