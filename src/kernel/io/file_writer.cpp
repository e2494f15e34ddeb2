#include "file_writer.h"

#include <array>
#include <cerrno>
#include <cstring>
#include <random>

#include "../base/error.h"
#include "../base/portable.h"

namespace civic {
namespace {

[[noreturn]] void cannot_write(const std::string& path, const std::string& why) {
  throw FileError("cannot write " + path + ": " + why);
}

void need_file_place(const std::string& path) {
  if (is_special(path)) cannot_write(path, "it is a device, a pipe, or a link to a file that is not there");
}

}  // namespace

std::string name_beside(const std::string& path, const char* kind) {
  std::random_device random;
  std::array<char, 24> text{};
  std::snprintf(text.data(), text.size(), ".%s-%08x", kind, static_cast<unsigned>(random()));
  return path + text.data();
}

bool is_name_beside(const std::string& name, const std::string& path, const char* kind) {
  const std::string front = path + "." + kind + "-";
  return name.starts_with(front) && name.size() == front.size() + 8 &&
         name.find_first_not_of("0123456789abcdef", front.size()) == std::string::npos;
}

FileWriter::FileWriter(const std::string& path) : path_(behind_links(path)) {
  if (is_folder(path_)) cannot_write(path, "it is a folder");
  need_file_place(path);
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
  if (size > 0 && std::fwrite(data, 1, size, file_) != size) cannot_write(path_, std::strerror(errno));
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
  flush_folder_of(path_);
}

void FileWriter::publish_unflushed() {
  std::FILE* file = file_;
  file_ = nullptr;
  if (std::fclose(file) != 0) cannot_write(path_, std::strerror(errno));
  if (const std::error_code problem = replace_file(beside_, path_)) cannot_write(path_, problem.message());
  beside_.clear();
}

void flush_files(const std::vector<std::string>& paths) {
  for (const std::string& path : paths)
    if (!flush_to_disk(path)) cannot_write(path, std::strerror(errno));
  if (!paths.empty()) flush_folder_of(paths.back());
}

void publish_file(const std::string& written, const std::string& target) {
  need_file_place(target);
  const std::string path = behind_links(target);
  keep_permissions(path, written);
  if (!flush_to_disk(written)) cannot_write(target, std::strerror(errno));
  if (const std::error_code problem = replace_file(written, path)) cannot_write(target, problem.message());
  flush_folder_of(path);
}

bool publish_new_file(const std::string& written, const std::string& target) {
  if (!flush_to_disk(written)) cannot_write(target, std::strerror(errno));
  const std::error_code problem = place_file(written, target);
  if (problem == std::errc::file_exists) return false;
  if (problem) cannot_write(target, problem.message());
  flush_folder_of(target);
  return true;
}

}  // namespace civic
