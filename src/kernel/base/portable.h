// Everything that compilers and operating systems do in their own ways; nothing else in the core asks which they are.
// Paths are UTF-8 everywhere.
#pragma once
#include <charconv>
#include <cstddef>
#include <cstdint>
#include <cstdio>
#include <numbers>
#include <string>
#include <system_error>

#if defined(__clang__)
// Rows, handles and offsets are R's 32-bit integers and index the containers of C++. GCC's -Wconversion leaves that
// alone in C++, and clang's would have a cast in every second line.
#pragma clang diagnostic ignored "-Wsign-conversion"
#endif

namespace civic {

inline constexpr double pi = std::numbers::pi;
inline constexpr double degree = pi / 180;  // in radians

// Whole numbers of 128 bits, in which predicates on the grid are exact.
#if !defined(__SIZEOF_INT128__)
#error "the core needs a compiler with 128-bit integers: GCC or clang for a 64-bit machine"
#endif
__extension__ typedef __int128 Wide;
__extension__ typedef unsigned __int128 UnsignedWide;

// What separates the folders of a path.
#if defined(_WIN32)
inline constexpr const char* folder_separators = "/\\";
#else
inline constexpr const char* folder_separators = "/";
#endif

// A file that is open for reading; any of its bytes can be read from several threads at a time.
class NativeFile {
 public:
  NativeFile() = default;
  // Throws FileError.
  explicit NativeFile(const std::string& path);
  ~NativeFile();
  NativeFile(const NativeFile&) = delete;
  NativeFile& operator=(const NativeFile&) = delete;
  bool is_open() const { return handle_ != closed; }
  std::uint64_t size() const;
  // Reads up to `size` bytes and gives how many came: 0 at the end or where it cannot be read.
  std::size_t read_some(std::uint64_t at, std::size_t size, std::uint8_t* to) const;
  // A name of what is open, whatever takes the place of the file meanwhile, for as long as it is open; empty where the
  // system has none.
  std::string name_while_open() const;

 private:
  static constexpr std::intptr_t closed = -1;
  std::intptr_t handle_ = closed;
};

// A file that was not there before, to write to: nullptr where there is one, also a link, or it cannot be made, with
// errno set.
std::FILE* create_to_write(const std::string& path);
// Whether what was written has reached the disk.
bool flush_to_disk(std::FILE* file);
bool flush_to_disk(const std::string& path);
// The same of the name of a file, in its folder, as far as the system does so.
void flush_folder_of(const std::string& path) noexcept;
// The file that a path means behind links; the path itself where there is none.
std::string behind_links(const std::string& path);
bool is_file(const std::string& path) noexcept;
bool is_folder(const std::string& path) noexcept;
// Whether a file is no place to put a file: a device, a pipe, or a link to what is not there.
bool is_special(const std::string& path) noexcept;
// Gives a file the permissions of another, where that is there.
void keep_permissions(const std::string& of, const std::string& to) noexcept;
// Renames a file, over another where there is one.
std::error_code replace_file(const std::string& from, const std::string& to);
// Renames a file to a name that nothing has; file_exists where something has it.
std::error_code place_file(const std::string& from, const std::string& to);
// Gives a file a second name, or where the system has none of these another one.
std::error_code keep_aside(const std::string& path, const std::string& aside);
void remove_file(const std::string& path) noexcept;
// The content of a gzip file. Throws FileError.
std::string read_gzip(const std::string& path);

// Writes all bytes to standard output as it is open, wherever that leads. Throws FileError where it is closed, there is
// no room, or whoever read it is gone, which has "SIGPIPE" in it.
void write_standard_output(const std::uint8_t* bytes, std::size_t size);

int process_number() noexcept;
// Starts a process that goes on from here as this one does, and gives its number, which is 0 in that one. Throws Error
// where there can be none.
int fork_process();
// Ends this process without calling or closing anything.
[[noreturn]] void end_at_once() noexcept;
// For a process forked from another. A crash ends it in silence, whatever the other one does then, as clear away files;
// and so does exit(), which would close the streams that they share and set back the files that the other one reads.
void end_without_trace() noexcept;
// Waits until a process that was forked from this one has ended; where it is interrupted, ends that one.
void wait_for_process(int number);
// Lets this process take so many bytes more than it has, where the system tells how many these are.
void limit_memory(double bytes) noexcept;

// Today's date in UTC.
struct Date {
  int year;
  unsigned month, day;
};
Date today();

// Gives memory that was freed back to the system, where its library would keep it for later.
void give_memory_back() noexcept;

// Has memory fetched that will be read soon; it may be any address.
inline void prefetch(const void* at) { __builtin_prefetch(at); }

// As std::from_chars(begin, end, value), which not every library has for doubles yet: a number with a point, whatever
// the locale.
std::from_chars_result read_double(const char* begin, const char* end, double& value);

}  // namespace civic
