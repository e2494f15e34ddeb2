// Files written whole or not at all.
#pragma once
#include <cstddef>
#include <cstdio>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace civic {

// Writes a file into a neighbour first, which is then renamed over the target.
class FileWriter {
 public:
  explicit FileWriter(const std::string& path);
  ~FileWriter();
  FileWriter(const FileWriter&) = delete;
  void write(const void* data, std::size_t size);
  void write(const std::string& text) { write(text.data(), text.size()); }
  void close();              // ends the neighbour, which is then on the disk; the target is still untouched
  void publish();            // renames it over the target
  void publish_unflushed();  // the same where the system may still hold it back; see flush_files()
  const std::string& target() const { return path_; }
  const std::string& neighbour() const { return beside_; }

 private:
  std::string path_, beside_;
  std::FILE* file_ = nullptr;
};

// A name beside a path that none has had.
std::string name_beside(const std::string& path, const char* kind);
// Whether a name was made so.
bool is_name_beside(const std::string& name, const std::string& path, const char* kind);

// Waits until files are on the disk, and the folders that name them.
void flush_files(const std::vector<std::string>& paths);

// Renames a file that another has written over its target, as FileWriter does with its own.
void publish_file(const std::string& written, const std::string& target);
// The same where nothing has the target's name; false where something has.
bool publish_new_file(const std::string& written, const std::string& target);

// Publishes files that belong together, as the members of a shapefile, and removes others of them that are left from
// before. Where one cannot be published the targets are what they were. Where the process ends in the middle, the next
// call for one of the files, here or in settle_files(), ends what it began. Others who change the same files are waited
// for, for some seconds at most.
void publish_together(std::span<const std::unique_ptr<FileWriter>> files, const std::vector<std::string>& removed,
                      double wait);

// Ends the change of files that belong together which a process that is no more had begun, and waits for one that is
// being made. Throws FileError where that is not to be had. `path` is any of the files.
void settle_files(const std::string& path, double wait);

// Whether such a change is being made, or was left in the middle.
bool are_being_changed(const std::string& path);

}  // namespace civic
