#include "bytes.h"

#include <algorithm>
#include <cstring>

#include "../base/error.h"
#include "../base/progress.h"

namespace civic {

FileContent FileContent::allocate(std::size_t size) {
  FileContent content;
  content.data_.reset(new std::uint8_t[size + padding]);  // not filled: every byte is about to be written
  std::memset(content.data_.get() + size, 0, padding);
  content.size_ = size;
  return content;
}

FileContent FileContent::read(const std::string& path) {
  const InputFile file(path);
  return file.read(0, file.size());
}

InputFile::InputFile(const std::string& path)
    : path_(path), file_(path), size_(static_cast<std::size_t>(file_.size())) {}

void InputFile::read(std::size_t at, std::size_t size, std::uint8_t* to) const {
  if (at > size_ || size > size_ - at)
    throw FormatError("it ends at byte " + std::to_string(size_) + ", where more was expected");
  if (!file_.is_open()) {
    std::copy_n(memory_.data() + at, size, to);
    return;
  }
  constexpr std::size_t step = std::size_t{64} << 20;
  for (std::size_t done = 0; done < size;) {
    const std::size_t got = file_.read_some(at + done, std::min(step, size - done), to + done);
    if (got == 0) throw FileError("cannot read " + path_ + " beyond byte " + std::to_string(at + done));
    done += got;
    if (size > step) check_in(done, size);
  }
}

FileContent InputFile::read(std::size_t at, std::size_t size) const {
  FileContent content = FileContent::allocate(size);
  read(at, size, content.data());
  return content;
}

const std::uint8_t* FileWindow::at(std::size_t place, std::size_t size) {
  if (place < begin_ || place + size > end_) {
    const std::size_t left = place < file_.size() ? file_.size() - place : 0;
    bytes_.resize(std::max(size, std::min(window_, left)));
    file_.read(place, bytes_.size(), bytes_.data());
    begin_ = place;
    end_ = place + bytes_.size();
  }
  return bytes_.data() + (place - begin_);
}

}  // namespace civic
