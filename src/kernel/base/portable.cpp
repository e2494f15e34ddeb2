#include "portable.h"

#ifdef __linux__
#include <malloc.h>
#endif

#include <zlib.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <memory>
#include <thread>

#include "error.h"
#include "native_path.h"
#include "progress.h"

#if defined(_WIN32)
#include <fcntl.h>
#include <io.h>
#include <sys/stat.h>
#include <windows.h>
#else
#include <fcntl.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>
#endif
#if !defined(__cpp_lib_to_chars)
#include <locale>
#include <sstream>
#endif

namespace civic {

#if defined(_WIN32)

NativeFile::NativeFile(const std::string& path) {
  constexpr DWORD shared = FILE_SHARE_READ | FILE_SHARE_WRITE | FILE_SHARE_DELETE;
  const HANDLE file =
      ::CreateFileW(native_path(path).c_str(), GENERIC_READ, shared, nullptr, OPEN_EXISTING, 0, nullptr);
  if (file == INVALID_HANDLE_VALUE)
    throw FileError("cannot open " + path + ": " + std::system_category().message(static_cast<int>(::GetLastError())));
  handle_ = reinterpret_cast<std::intptr_t>(file);
}

NativeFile::~NativeFile() {
  if (is_open()) ::CloseHandle(reinterpret_cast<HANDLE>(handle_));
}

std::uint64_t NativeFile::size() const {
  LARGE_INTEGER size;
  return ::GetFileSizeEx(reinterpret_cast<HANDLE>(handle_), &size) ? static_cast<std::uint64_t>(size.QuadPart) : 0;
}

std::size_t NativeFile::read_some(std::uint64_t at, std::size_t size, std::uint8_t* to) const {
  OVERLAPPED place{};
  place.Offset = static_cast<DWORD>(at);
  place.OffsetHigh = static_cast<DWORD>(at >> 32);
  DWORD got = 0;
  return ::ReadFile(reinterpret_cast<HANDLE>(handle_), to, static_cast<DWORD>(size), &got, &place) ? got : 0;
}

std::string NativeFile::name_while_open() const { return {}; }

std::FILE* create_to_write(const std::string& path) {
  constexpr int fresh = _O_CREAT | _O_EXCL | _O_WRONLY | _O_BINARY;
  const int opened = ::_wopen(native_path(path).c_str(), fresh, _S_IREAD | _S_IWRITE);
  return opened < 0 ? nullptr : ::_fdopen(opened, "wb");
}

bool flush_to_disk(std::FILE* file) { return std::fflush(file) == 0 && ::_commit(::_fileno(file)) == 0; }

bool flush_to_disk(const std::string& path) {
  const int opened = ::_wopen(native_path(path).c_str(), _O_RDWR | _O_BINARY);
  if (opened < 0) return false;
  const bool flushed = ::_commit(opened) == 0;
  ::_close(opened);
  return flushed;
}

void flush_folder_of(const std::string&) noexcept {}

void write_standard_output(const std::uint8_t* bytes, std::size_t size) {
  const int before = ::_setmode(1, _O_BINARY);
  if (before == -1) throw FileError("standard output is closed");
  std::size_t done = 0;
  while (done < size) {
    const int wrote = ::_write(1, bytes + done, static_cast<unsigned>(std::min<std::size_t>(size - done, 1 << 20)));
    if (wrote <= 0) break;
    done += static_cast<std::size_t>(wrote);
  }
  const int code = errno;
  ::_setmode(1, before);
  if (done < size)
    throw FileError(std::string("standard output: ") + (code == EPIPE ? "SIGPIPE" : std::strerror(code)));
}

int process_number() noexcept { return static_cast<int>(::GetCurrentProcessId()); }

int fork_process() { throw Error("there is no fork on this system"); }
void end_at_once() noexcept {
  for (;;) ::TerminateProcess(::GetCurrentProcess(), 0);
}
void end_without_trace() noexcept {}
void wait_for_process(int) {}
void limit_memory(double) noexcept {}

#else

NativeFile::NativeFile(const std::string& path) : handle_(::open(path.c_str(), O_RDONLY | O_CLOEXEC)) {
  if (!is_open()) throw FileError("cannot open " + path + ": " + std::strerror(errno));
}

NativeFile::~NativeFile() {
  if (is_open()) ::close(static_cast<int>(handle_));
}

std::uint64_t NativeFile::size() const {
  const off_t size = ::lseek(static_cast<int>(handle_), 0, SEEK_END);
  return size < 0 ? 0 : static_cast<std::uint64_t>(size);
}

std::size_t NativeFile::read_some(std::uint64_t at, std::size_t size, std::uint8_t* to) const {
  for (;;) {
    const auto got = ::pread(static_cast<int>(handle_), to, size, static_cast<off_t>(at));
    if (got < 0 && errno == EINTR) continue;
    return got < 0 ? 0 : static_cast<std::size_t>(got);
  }
}

std::string NativeFile::name_while_open() const {
  const std::string name = "/proc/self/fd/" + std::to_string(handle_);  // see proc(5)
  return ::access(name.c_str(), R_OK) == 0 ? name : std::string();
}

std::FILE* create_to_write(const std::string& path) { return std::fopen(path.c_str(), "wbx"); }

bool flush_to_disk(std::FILE* file) { return std::fflush(file) == 0 && ::fsync(::fileno(file)) == 0; }

bool flush_to_disk(const std::string& path) {
  const int opened = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (opened < 0) return false;
  const bool flushed = ::fsync(opened) == 0;
  ::close(opened);
  return flushed;
}

void flush_folder_of(const std::string& path) noexcept {
  const std::string folder = native_path(path).parent_path().string();
  flush_to_disk(folder.empty() ? "." : folder);
}

// A program that was started with standard output closed has another file in its place, open for reading.
void write_standard_output(const std::uint8_t* bytes, std::size_t size) {
  const int flags = ::fcntl(STDOUT_FILENO, F_GETFL);
  if (flags == -1 || (flags & O_ACCMODE) == O_RDONLY) throw FileError("standard output is closed");
  // What a host does on the signal of a pipe without a reader could leave this function by a jump.
  struct sigaction quiet {};
  struct sigaction before {};
  quiet.sa_handler = SIG_IGN;
  ::sigaction(SIGPIPE, &quiet, &before);
  std::size_t done = 0;
  int code = 0;
  while (done < size && code == 0) {
    const ssize_t wrote = ::write(STDOUT_FILENO, bytes + done, std::min<std::size_t>(size - done, 1 << 20));
    if (wrote >= 0)
      done += static_cast<std::size_t>(wrote);
    else if (errno != EINTR)
      code = errno;
  }
  ::sigaction(SIGPIPE, &before, nullptr);
  if (code != 0) throw FileError(std::string("standard output: ") + (code == EPIPE ? "SIGPIPE" : std::strerror(code)));
}

int process_number() noexcept { return ::getpid(); }

int fork_process() {
  const pid_t child = ::fork();
  if (child < 0) throw Error(std::string("no process can be started: ") + std::strerror(errno));
  return child;
}

void end_at_once() noexcept {
  for (;;) std::raise(SIGKILL);
}

void wait_for_process(int number) {
  try {
    while (::waitpid(number, nullptr, WNOHANG) == 0) {
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
      end_if_interrupted();
    }
  } catch (const Interrupted&) {
    ::kill(number, SIGKILL);
    ::waitpid(number, nullptr, 0);
    throw;
  }
}

void end_without_trace() noexcept {
  for (const int crash : {SIGSEGV, SIGBUS, SIGILL, SIGFPE, SIGABRT}) std::signal(crash, SIG_DFL);
  std::atexit(end_at_once);
  const rlimit none{0, 0};
  ::setrlimit(RLIMIT_CORE, &none);
  const int nowhere = ::open("/dev/null", O_WRONLY);
  for (const int stream : {STDOUT_FILENO, STDERR_FILENO})
    if (nowhere >= 0) ::dup2(nowhere, stream);
}

void limit_memory(double bytes) noexcept {
  double pages = 0;  // the first number of the file, see proc(5)
  std::ifstream("/proc/self/statm") >> pages;
  if (!(pages > 0)) return;
  const double most = pages * static_cast<double>(::sysconf(_SC_PAGESIZE)) + bytes;
  if (!(most < 1e18)) return;
  const auto limit = static_cast<rlim_t>(most);
  const rlimit both{limit, limit};
  ::setrlimit(RLIMIT_AS, &both);
}

#endif

std::string behind_links(const std::string& path) {
  std::error_code problem;
  if (!std::filesystem::is_symlink(native_path(path), problem)) return path;
  const auto target = std::filesystem::weakly_canonical(native_path(path), problem);
  if (problem) return path;
  const std::u8string text = target.u8string();
  return {text.begin(), text.end()};
}

bool is_file(const std::string& path) noexcept {
  std::error_code problem;
  return std::filesystem::is_regular_file(native_path(path), problem);
}

bool is_folder(const std::string& path) noexcept {
  std::error_code problem;
  return std::filesystem::is_directory(native_path(path), problem);
}

bool is_special(const std::string& path) noexcept {
  std::error_code problem;
  const auto own = std::filesystem::symlink_status(native_path(path), problem);
  if (problem || own.type() == std::filesystem::file_type::not_found) return false;
  const auto status = std::filesystem::status(native_path(path), problem);
  return !std::filesystem::is_regular_file(status) && !std::filesystem::is_directory(status);
}

void keep_permissions(const std::string& of, const std::string& to) noexcept {
  std::error_code problem;
  const auto status = std::filesystem::status(native_path(of), problem);
  if (!problem && std::filesystem::is_regular_file(status))
    std::filesystem::permissions(native_path(to), status.permissions(), problem);
}

std::error_code replace_file(const std::string& from, const std::string& to) {
  std::error_code problem;
  std::filesystem::rename(native_path(from), native_path(to), problem);
  return problem;
}

// Where a file can have no second name, another may come in between.
std::error_code place_file(const std::string& from, const std::string& to) {
  std::error_code problem;
  std::filesystem::create_hard_link(native_path(from), native_path(to), problem);
  if (problem == std::errc::file_exists) return problem;
  if (problem) {
    if (std::filesystem::exists(native_path(to))) return std::make_error_code(std::errc::file_exists);
    return replace_file(from, to);
  }
  remove_file(from);
  return {};
}

std::error_code keep_aside(const std::string& path, const std::string& aside) {
  std::error_code problem;
  std::filesystem::create_hard_link(native_path(path), native_path(aside), problem);
  return problem ? replace_file(path, aside) : problem;
}

void remove_file(const std::string& path) noexcept {
  std::error_code ignored;
  std::filesystem::remove(native_path(path), ignored);
}

std::string read_gzip(const std::string& path) {
#if defined(_WIN32)
  const gzFile opened = ::gzopen_w(native_path(path).c_str(), "rb");
#else
  const gzFile opened = ::gzopen(path.c_str(), "rb");
#endif
  const std::unique_ptr<gzFile_s, int (*)(gzFile)> file(opened, gzclose);
  if (!file) throw FileError("cannot read " + path);
  std::string text;
  constexpr std::size_t step = 1 << 18;
  for (;;) {
    const std::size_t at = text.size();
    text.resize(at + step);
    const int got = gzread(file.get(), text.data() + at, step);
    if (got < 0) throw FileError(path + " is damaged");
    text.resize(at + static_cast<std::size_t>(got));
    if (got == 0) return text;
  }
}

Date today() {
  const auto now = std::chrono::floor<std::chrono::days>(std::chrono::system_clock::now());
  const std::chrono::year_month_day date(now);
  return {static_cast<int>(date.year()), static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day())};
}

#if defined(__cpp_lib_to_chars)

std::from_chars_result read_double(const char* begin, const char* end, double& value) {
  return std::from_chars(begin, end, value);
}

#else  // libc++ before 20

namespace {

// The end of a decimal number at the front of the text, by its grammar alone; `begin` where none stands there.
const char* number_end(const char* begin, const char* end) {
  const char* at = begin;
  const auto digits = [&] {
    const char* const first = at;
    while (at != end && *at >= '0' && *at <= '9') ++at;
    return at - first;
  };
  if (at != end && *at == '-') ++at;
  auto count = digits();
  if (at != end && *at == '.') {
    ++at;
    count += digits();
  }
  if (count == 0) return begin;
  const char* const mantissa = at;
  if (at == end || (*at != 'e' && *at != 'E')) return at;
  ++at;
  if (at != end && (*at == '-' || *at == '+')) ++at;
  return digits() > 0 ? at : mantissa;
}

}  // namespace

std::from_chars_result read_double(const char* begin, const char* end, double& value) {
  const char* const stop = number_end(begin, end);
  if (stop == begin) return {begin, std::errc::invalid_argument};
  thread_local std::istringstream stream = [] {
    std::istringstream made;
    made.imbue(std::locale::classic());
    return made;
  }();
  double read = 0;
  stream.clear();
  stream.str(std::string(begin, stop));
  if (!(stream >> read)) return {stop, std::errc::result_out_of_range};
  value = read;
  return {stop, std::errc()};
}

#endif

void give_memory_back() noexcept {
#ifdef __GLIBC__
  malloc_trim(0);
#endif
}

}  // namespace civic
