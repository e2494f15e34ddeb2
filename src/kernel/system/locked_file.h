// A small file that one process at a time holds, and which the system lets go when that process ends, however it does.
#pragma once
#include <cstdint>
#include <string>

namespace civic {

class LockedFile {
 public:
  enum class State { held, busy, missing };
  // Throws FileError where it can be neither opened nor made.
  LockedFile(const std::string& path, bool make);
  ~LockedFile();
  LockedFile(LockedFile&& other) noexcept;
  LockedFile(const LockedFile&) = delete;
  State state() const { return state_; }
  std::string read() const;
  void write(const std::string& content);  // in place of what it holds, and on the disk
  void remove();                           // while it is held
  // What a file holds that another process has.
  static std::string peek(const std::string& path);

 private:
  static constexpr std::intptr_t closed = -1;
  std::string path_;
  std::intptr_t handle_ = closed;
  State state_ = State::missing;
};

// The number of a process that has locked a part of a file, where the system tells; 0 where not.
int process_holding(const std::string& path);

// How this process is told from others: its number and the machine's name.
std::string this_process();

}  // namespace civic
