// Paths as the system wants them.
#pragma once
#include <filesystem>
#include <string>

namespace civic {

inline std::filesystem::path native_path(const std::string& path) {
  return std::filesystem::path(std::u8string(path.begin(), path.end()));
}

}  // namespace civic
