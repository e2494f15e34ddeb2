#include "locked_file.h"

#include <array>
#include <cerrno>
#include <cstring>
#include <fstream>
#include <sstream>
#include <utility>

#include "error.h"
#include "native_path.h"
#include "portable.h"

#if defined(_WIN32)
#include <windows.h>
#else
#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>
#endif

namespace civic {
namespace {

[[noreturn]] void cannot(const std::string& what, const std::string& path, const std::string& why) {
  throw FileError("cannot " + what + " " + path + ": " + why);
}

}  // namespace

LockedFile::LockedFile(LockedFile&& other) noexcept
    : path_(std::move(other.path_)), handle_(std::exchange(other.handle_, closed)), state_(other.state_) {}

std::string LockedFile::peek(const std::string& path) {
  std::ifstream file(native_path(path), std::ios::binary);
  std::ostringstream content;
  content << file.rdbuf();
  return content.str();
}

#if defined(_WIN32)

namespace {

HANDLE handle_of(std::intptr_t handle) { return reinterpret_cast<HANDLE>(handle); }
std::string last_problem() { return std::system_category().message(static_cast<int>(::GetLastError())); }

}  // namespace

// What one process has opened to write no other can, and a file that is about to go is denied.
LockedFile::LockedFile(const std::string& path, bool make, const std::string& claim) : path_(path) {
  constexpr DWORD access = GENERIC_READ | GENERIC_WRITE | DELETE;
  const HANDLE file = ::CreateFileW(native_path(path).c_str(), access, FILE_SHARE_READ, nullptr,
                                    make ? OPEN_ALWAYS : OPEN_EXISTING, 0, nullptr);
  if (file != INVALID_HANDLE_VALUE) {
    handle_ = reinterpret_cast<std::intptr_t>(file);
    state_ = State::held;
    if (read().empty()) write(claim);
    return;
  }
  const DWORD problem = ::GetLastError();
  if (problem == ERROR_FILE_NOT_FOUND || problem == ERROR_PATH_NOT_FOUND) return;
  if (problem != ERROR_SHARING_VIOLATION && problem != ERROR_ACCESS_DENIED) cannot("open", path, last_problem());
  state_ = State::busy;
}

LockedFile::~LockedFile() {
  if (handle_ != closed) ::CloseHandle(handle_of(handle_));
}

std::string LockedFile::read() const { return peek(path_); }

int process_holding(const std::string&) { return 0; }

void LockedFile::write(const std::string& content) {
  const HANDLE file = handle_of(handle_);
  DWORD done = 0;
  ::SetFilePointer(file, 0, nullptr, FILE_BEGIN);
  if (!::WriteFile(file, content.data(), static_cast<DWORD>(content.size()), &done, nullptr) || !::SetEndOfFile(file) ||
      !::FlushFileBuffers(file))
    cannot("write", path_, last_problem());
}

void LockedFile::remove() {
  FILE_DISPOSITION_INFO gone{};
  gone.DeleteFile = TRUE;
  ::SetFileInformationByHandle(handle_of(handle_), FileDispositionInfo, &gone, sizeof(gone));
  ::CloseHandle(handle_of(std::exchange(handle_, closed)));
}

std::string this_process() {
  std::array<char, 256> name{};
  DWORD size = static_cast<DWORD>(name.size());
  ::GetComputerNameA(name.data(), &size);
  return "process " + std::to_string(process_number()) + " on " + name.data();
}

#else

namespace {

int descriptor(std::intptr_t handle) { return static_cast<int>(handle); }

// To read alone where it cannot be opened to write. Behind a link would lie what somebody else chose, and a pipe would
// wait.
int open_shared(const std::string& path, bool make) {
  constexpr int plain = O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK;
  const int file = ::open(path.c_str(), O_RDWR | plain | (make ? O_CREAT : 0), 0666);
  if (file >= 0 || make || (errno != EACCES && errno != EROFS)) return file;
  return ::open(path.c_str(), O_RDONLY | plain);
}

// In place of what the file holds.
bool put(int file, const std::string& content) {
  return ::ftruncate(file, 0) == 0 &&
         ::pwrite(file, content.data(), content.size(), 0) == static_cast<ssize_t>(content.size());
}

}  // namespace

LockedFile::LockedFile(const std::string& path, bool make, const std::string& claim) : path_(path) {
  for (;;) {
    const int file = open_shared(path, make);
    if (file < 0 && errno == ENOENT && !make) return;
    if (file < 0) cannot("open", path, std::strerror(errno));
    handle_ = file;
    int problem = 0;
    while (::flock(file, LOCK_EX | LOCK_NB) != 0 && (problem = errno) == EINTR) problem = 0;
    const bool busy = problem == EWOULDBLOCK;
    if (!busy && is_current(claim)) {
      state_ = State::held;
      return;
    }
    ::close(descriptor(std::exchange(handle_, closed)));
    if (busy) {
      state_ = State::busy;
      return;
    }
  }
}

// Whether the name still means the file that is open, and not one made after that was removed. An empty file that
// cannot be written has nothing to tell.
bool LockedFile::is_current(const std::string& claim) {
  if (read().empty() && !put(descriptor(handle_), claim)) return true;
  return peek(path_) == read();
}

std::string LockedFile::read() const {
  std::string content;
  std::array<char, 4096> piece{};
  ssize_t got = 0;
  while ((got = ::pread(descriptor(handle_), piece.data(), piece.size(), static_cast<off_t>(content.size()))) > 0)
    content.append(piece.data(), static_cast<std::size_t>(got));
  return content;
}

LockedFile::~LockedFile() {
  if (handle_ != closed) ::close(descriptor(handle_));
}

void LockedFile::write(const std::string& content) {
  const int file = descriptor(handle_);
  if (!put(file, content) || ::fsync(file) != 0) cannot("write", path_, std::strerror(errno));
  flush_folder_of(path_);
}

void LockedFile::remove() {
  remove_file(path_);
  ::close(descriptor(std::exchange(handle_, closed)));
}

int process_holding(const std::string& path) {
  const int file = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (file < 0) return 0;
  struct flock lock {};
  lock.l_type = F_WRLCK;
  lock.l_whence = SEEK_SET;
  const bool told = ::fcntl(file, F_GETLK, &lock) == 0 && lock.l_type != F_UNLCK;
  ::close(file);
  return told ? static_cast<int>(lock.l_pid) : 0;
}

std::string this_process() {
  std::array<char, 256> name{};
  ::gethostname(name.data(), name.size() - 1);
  return "process " + std::to_string(process_number()) + " on " + name.data();
}

#endif

}  // namespace civic
