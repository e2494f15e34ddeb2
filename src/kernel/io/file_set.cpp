// Files that belong together change one after the other. Before the first does, a journal beside them says what each
// becomes, and its writer holds it locked. Whoever finds a journal that nobody holds carries it out: every step can be
// done again, so that it does not matter where its writer ended.
#include <algorithm>
#include <chrono>
#include <random>
#include <thread>

#include "../base/error.h"
#include "../base/locked_file.h"
#include "../base/portable.h"
#include "../base/progress.h"
#include "file_writer.h"

namespace civic {
namespace {

// A file becomes what its part holds, or nothing where it has no part; what it was is kept aside until all is done.
struct Change {
  std::string part, target, aside;
  bool is_done() const { return part.empty() ? !is_file(target) : !is_file(part); }
};

void need(std::error_code problem, const std::string& target) {
  if (problem) throw FileError("cannot write " + target + ": " + problem.message());
}

void carry_out(const Change& change) {
  if (change.is_done()) return;
  if (is_file(change.target) && !is_file(change.aside)) need(keep_aside(change.target, change.aside), change.target);
  if (change.part.empty()) return remove_file(change.target);
  need(replace_file(change.part, change.target), change.target);
}

// The part gets its name back, so that the journal holds until the last file is what it was.
void take_back(const Change& change) {
  if (change.is_done() && !change.part.empty() && replace_file(change.target, change.part)) return;
  if (is_file(change.aside) && !replace_file(change.aside, change.target)) remove_file(change.aside);
}

// All or none.
void carry_out(const std::vector<Change>& changes) {
  try {
    for (const Change& change : changes) carry_out(change);
  } catch (...) {
    for (const Change& change : changes) take_back(change);
    throw;
  }
  for (const Change& change : changes) remove_file(change.aside);
  flush_folder_of(changes.front().target);
}

std::string folder_of(const std::string& path) { return path.substr(0, path.find_last_of(folder_separators) + 1); }

// The same name for all members, however their endings are spelt.
std::string journal_beside(const std::string& path) {
  const std::string whole = behind_links(path), folder = folder_of(whole);
  std::string stem = whole.substr(folder.size());
  stem.resize(std::min(stem.size(), stem.find_last_of('.')));
  for (char& letter : stem)
    if (letter >= 'A' && letter <= 'Z') letter = static_cast<char>(letter - 'A' + 'a');
  return folder + "." + stem + ".civicatlas-change";
}

constexpr const char* change_line = "civicatlas change 1";
constexpr const char* last_line = "end";

std::string line(const std::string& text) { return text + '\0'; }

// What a journal holds before its change is known: whose it is, and what no other holds.
std::string new_claim() {
  std::random_device random;
  return line("civicatlas") + line(this_process()) + line(std::to_string(random()) + std::to_string(random()));
}

// By names beside the journal. A link may have led a member to another folder, which the journal does not reach.
std::string journal_of(const std::vector<Change>& changes, const std::string& journal) {
  std::string text = line(change_line) + line(this_process());
  const std::size_t folder = folder_of(journal).size();
  auto name = [&](const std::string& path) { return line(path.empty() ? "" : path.substr(folder)); };
  for (const Change& change : changes)
    if (journal_beside(change.target) == journal) text += name(change.part) + name(change.target) + name(change.aside);
  return text + line(last_line);
}

std::vector<std::string> fields_of(const std::string& journal) {
  std::vector<std::string> fields;
  for (std::size_t at = 0, end; (end = journal.find('\0', at)) != std::string::npos; at = end + 1)
    fields.push_back(journal.substr(at, end - at));
  return fields;
}

// Anybody may have laid a journal there: it may change members alone, and make them of what was written beside them.
bool is_allowed(const Change& change, const std::string& journal) {
  return journal_beside(change.target) == journal && is_name_beside(change.aside, change.target, "old") &&
         (change.part.empty() || is_name_beside(change.part, change.target, "part"));
}

// None where the journal itself was not written to its end, as then no file has been changed, or is none of ours.
std::vector<Change> changes_of(const std::string& text, const std::string& journal) {
  const std::vector<std::string> fields = fields_of(text);
  if (fields.size() < 3 || fields.front() != change_line || fields.back() != last_line) return {};
  const std::string folder = folder_of(journal);
  std::vector<Change> changes;
  for (std::size_t at = 2; at + 3 < fields.size(); at += 3) {
    changes.push_back(
        {fields[at].empty() ? "" : folder + fields[at], folder + fields[at + 1], folder + fields[at + 2]});
    if (!is_allowed(changes.back(), journal)) return {};
  }
  return changes;
}

// The journal beside a file, held; not held where there is none and none is to be made.
LockedFile hold_journal(const std::string& path, bool make, double wait) {
  using Clock = std::chrono::steady_clock;
  const std::string name = journal_beside(path);
  const auto until = Clock::now() + std::chrono::duration<double>(wait);
  const std::string claim = new_claim();
  for (;;) {
    LockedFile journal(name, make, claim);
    if (journal.state() != LockedFile::State::busy) return journal;
    if (Clock::now() > until) {
      const std::vector<std::string> fields = fields_of(LockedFile::peek(name));
      throw FileError(path + " is being changed by " + (fields.size() > 1 ? fields[1] : "another process"));
    }
    end_if_interrupted();
    std::this_thread::sleep_for(std::chrono::milliseconds(5));
  }
}

// What a process that is no more had begun.
void finish(LockedFile& journal) {
  const std::vector<Change> changes = changes_of(journal.read(), journal.path());
  if (changes.empty()) return;
  try {
    carry_out(changes);
  } catch (const FileError& error) {
    throw FileError(
        changes.front().target +
        " was being replaced when its writer ended, which is to be carried out before it is used: " + error.what());
  }
}

}  // namespace

void publish_together(std::span<const std::unique_ptr<FileWriter>> files, const std::vector<std::string>& removed,
                      double wait) {
  if (files.size() == 1 && removed.empty()) return files[0]->publish();
  for (const auto& file : files) file->close();
  LockedFile journal = hold_journal(files.front()->target(), true, wait);
  finish(journal);
  std::vector<Change> changes;
  for (const auto& file : files)
    changes.push_back({file->neighbour(), file->target(), name_beside(file->target(), "old")});
  for (const std::string& path : removed) changes.push_back({"", path, name_beside(path, "old")});
  journal.write(journal_of(changes, journal.path()));
  try {
    carry_out(changes);
  } catch (...) {
    journal.remove();
    throw;
  }
  journal.remove();
}

void settle_files(const std::string& path, double wait) {
  LockedFile journal = hold_journal(path, false, wait);
  if (journal.state() != LockedFile::State::held) return;
  finish(journal);
  journal.remove();
}

bool are_being_changed(const std::string& path) { return is_file(journal_beside(path)); }

}  // namespace civic
