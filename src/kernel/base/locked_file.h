// A small file that one process at a time holds, and which the system lets go when that process ends, however it does.
// What it holds is unlike that of any other, by which its holder knows that its name has not come to mean another.
#pragma once
#include <cstdint>
#include <string>

namespace civic {

class LockedFile {
 public:
  enum class State { held, busy, missing };
  // An empty file gets the claim for its content. Throws FileError where it can be neither opened nor made.
  LockedFile(const std::string& path, bool make, const std::string& claim);
  ~LockedFile();
  LockedFile(LockedFile&& other) noexcept;
  LockedFile(const LockedFile&) = delete;
  State state() const { return state_; }
  const std::string& path() const { return path_; }
  std::string read() const;
  void write(const std::string& content);  // in place of what it holds, and on the disk
  void remove();                           // while it is held
  // What a file holds that another process has.
  static std::string peek(const std::string& path);

 private:
  static constexpr std::intptr_t closed = -1;
  bool is_current(const std::string& claim);
  std::string path_;
  std::intptr_t handle_ = closed;
  State state_ = State::missing;
};

// The number of another process that has locked a part of a file, where the system tells; 0 where not. To be called in
// a process of its own: where it closes the file, all locks go that its process has on it.
int process_holding(const std::string& path);

// How this process is told from others: its number and the machine's name.
std::string this_process();

}  // namespace civic
