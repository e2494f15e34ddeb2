// Memo files beside a dBASE table: .dbt of dBASE III and IV, .fpt of FoxPro.
#pragma once
#include <atomic>
#include <string>

#include "../io/bytes.h"

namespace civic {

class MemoFile {
 public:
  enum class Kind { dbase3, dbase4, foxpro };
  MemoFile(const InputFile& file, Kind kind);
  // The text that starts at a block; throws FormatError where it lies outside the file, LimitError where all that was
  // read is far more than the file.
  std::string text(std::size_t block) const;

 private:
  const InputFile& file_;
  Kind kind_;
  std::size_t block_size_ = 512;
  mutable std::atomic<std::size_t> read_{0};
};

}  // namespace civic
