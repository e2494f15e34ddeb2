#include "bytes.h"

#include <cerrno>
#include <cstdio>
#include <filesystem>

#include "../error.h"

namespace civic {

FileContent FileContent::allocate(std::size_t size) {
  FileContent content;
  content.data_.reset(new std::uint8_t[size + padding]);  // not filled: every byte is about to be written
  std::memset(content.data_.get() + size, 0, padding);
  content.size_ = size;
  return content;
}

FileContent FileContent::read(const std::string& path) {
  std::FILE* file = std::fopen(path.c_str(), "rb");
  if (!file) throw FileError("cannot open " + path + ": " + std::strerror(errno));
  std::unique_ptr<std::FILE, int (*)(std::FILE*)> closer(file, std::fclose);
  std::error_code problem;
  const auto size = std::filesystem::file_size(path, problem);
  if (problem) throw FileError("cannot read " + path + ": " + problem.message());
  std::setvbuf(file, nullptr, _IONBF, 0);
  FileContent content = allocate(size);
  std::size_t done = 0;
  while (done < size) {
    const std::size_t got = std::fread(content.data() + done, 1, size - done, file);
    if (got == 0) throw FileError("cannot read " + path + " beyond byte " + std::to_string(done));
    done += got;
  }
  return content;
}

FileWriter::FileWriter(std::string path) : path_(std::move(path)), beside_(path_ + ".part") {
  file_ = std::fopen(beside_.c_str(), "wb");
  if (!file_) throw FileError("cannot write " + path_ + ": " + std::strerror(errno));
}

FileWriter::~FileWriter() {
  if (file_) std::fclose(file_);
  if (!beside_.empty()) std::remove(beside_.c_str());
}

void FileWriter::write(const void* data, std::size_t size) {
  if (std::fwrite(data, 1, size, file_) != size) throw FileError("cannot write " + path_ + ": " + std::strerror(errno));
}

void FileWriter::close() {
  if (!file_) return;
  std::FILE* file = file_;
  file_ = nullptr;
  if (std::fclose(file) != 0) throw FileError("cannot write " + path_ + ": " + std::strerror(errno));
}

void FileWriter::publish() {
  close();
  std::error_code problem;
  std::filesystem::rename(beside_, path_, problem);
  if (problem) throw FileError("cannot write " + path_ + ": " + problem.message());
  beside_.clear();
}

}  // namespace civic
