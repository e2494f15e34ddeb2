#include "bytes.h"

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <random>

#include "../error.h"
#include "../progress.h"

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

namespace {

// A name beside a path that none has had.
std::string name_beside(const std::string& path, const char* kind) {
  std::random_device random;
  std::array<char, 24> text{};
  std::snprintf(text.data(), text.size(), ".%s-%08x", kind, static_cast<unsigned>(random()));
  return path + text.data();
}

[[noreturn]] void cannot_write(const std::string& path, const std::string& why) {
  throw FileError("cannot write " + path + ": " + why);
}

}  // namespace

FileWriter::FileWriter(const std::string& path) : path_(behind_links(path)) {
  if (is_folder(path_)) cannot_write(path, "it is a folder");
  do {
    beside_ = name_beside(path_, "part");
    file_ = create_to_write(beside_);
  } while (!file_ && errno == EEXIST);
  if (!file_) {
    beside_.clear();
    cannot_write(path, std::strerror(errno));
  }
  keep_permissions(path_, beside_);
}

FileWriter::~FileWriter() {
  if (file_) std::fclose(file_);
  if (!beside_.empty()) remove_file(beside_);
}

void FileWriter::write(const void* data, std::size_t size) {
  if (std::fwrite(data, 1, size, file_) != size) cannot_write(path_, std::strerror(errno));
}

void FileWriter::close() {
  if (!file_) return;
  const bool flushed = flush_to_disk(file_);
  const int problem = errno;
  std::FILE* file = file_;
  file_ = nullptr;
  if (std::fclose(file) != 0) cannot_write(path_, std::strerror(errno));
  if (!flushed) cannot_write(path_, std::strerror(problem));
}

void FileWriter::publish() {
  close();
  if (const std::error_code problem = replace_file(beside_, path_)) cannot_write(path_, problem.message());
  beside_.clear();
  published_ = true;
  flush_folder_of(path_);
}

void FileWriter::set_target_aside() {
  if (!is_file(path_)) return;
  const std::string name = name_beside(path_, "old");
  if (const std::error_code problem = replace_file(path_, name)) cannot_write(path_, problem.message());
  aside_ = name;
}

void FileWriter::take_back() {
  if (published_) remove_file(path_);
  if (!aside_.empty()) replace_file(aside_, path_);
}

void publish_all(std::span<const std::unique_ptr<FileWriter>> files) {
  if (files.size() == 1) return files[0]->publish();
  try {
    for (const auto& file : files) file->close();
    for (const auto& file : files) file->set_target_aside();
    for (const auto& file : files) file->publish();
  } catch (...) {
    for (const auto& file : files) file->take_back();
    throw;
  }
  for (const auto& file : files)
    if (!file->aside_.empty()) remove_file(file->aside_);
}

}  // namespace civic
