// Whole files in memory, and numbers of either byte order in them.
#pragma once
#include <bit>
#include <cstdint>
#include <cstring>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "../base/portable.h"

namespace civic {

using ByteSpan = std::span<const std::uint8_t>;

// A file's content, with spare zero bytes after its end for decoders that read ahead.
class FileContent {
 public:
  static constexpr std::size_t padding = 64;
  FileContent() = default;
  static FileContent read(const std::string& path);
  static FileContent allocate(std::size_t size);
  ByteSpan bytes() const { return {data_.get(), size_}; }
  std::uint8_t* data() { return data_.get(); }

 private:
  std::unique_ptr<std::uint8_t[]> data_;
  std::size_t size_ = 0;
};

// A file, or bytes in memory, of which any stretch can be read, from several threads.
class InputFile {
 public:
  explicit InputFile(const std::string& path);
  explicit InputFile(ByteSpan memory) : memory_(memory), size_(memory.size()) {}
  InputFile(const InputFile&) = delete;
  std::size_t size() const { return size_; }
  // Throws FileError where the file has been cut since it was opened.
  void read(std::size_t at, std::size_t size, std::uint8_t* to) const;
  FileContent read(std::size_t at, std::size_t size) const;

 private:
  std::string path_;
  NativeFile file_;
  ByteSpan memory_;
  std::size_t size_ = 0;
};

// Short stretches of a file, read a window at a time while they come in ascending order.
class FileWindow {
 public:
  FileWindow(const InputFile& file, std::size_t window) : file_(file), window_(window) {}
  const std::uint8_t* at(std::size_t place, std::size_t size);

 private:
  const InputFile& file_;
  std::size_t window_, begin_ = 0, end_ = 0;
  std::vector<std::uint8_t> bytes_;
};

template <class T>
T little(const std::uint8_t* at) {
  T value;
  std::memcpy(&value, at, sizeof(T));
  if constexpr (std::endian::native == std::endian::big) {
    auto* raw = reinterpret_cast<std::uint8_t*>(&value);
    for (std::size_t i = 0; i < sizeof(T) / 2; ++i) std::swap(raw[i], raw[sizeof(T) - 1 - i]);
  }
  return value;
}

inline std::uint32_t big32(const std::uint8_t* at) {
  return std::uint32_t{at[0]} << 24 | std::uint32_t{at[1]} << 16 | std::uint32_t{at[2]} << 8 | at[3];
}

template <class T>
void put_little(std::vector<std::uint8_t>& out, T value) {
  std::uint8_t raw[sizeof(T)];
  std::memcpy(raw, &value, sizeof(T));
  if constexpr (std::endian::native == std::endian::big)
    for (std::size_t i = 0; i < sizeof(T) / 2; ++i) std::swap(raw[i], raw[sizeof(T) - 1 - i]);
  out.insert(out.end(), raw, raw + sizeof(T));
}

inline void put_big32(std::vector<std::uint8_t>& out, std::uint32_t value) {
  for (int shift = 24; shift >= 0; shift -= 8) out.push_back(static_cast<std::uint8_t>(value >> shift));
}

}  // namespace civic
