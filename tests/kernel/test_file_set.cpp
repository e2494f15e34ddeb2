// Files that belong together, changed by processes that are killed in the middle and by two at a time.
#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <random>
#include <thread>

#include "kernel/base/error.h"
#include "kernel/io/file_writer.h"
#include "support.h"

#if !defined(_WIN32)
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#endif

namespace {

namespace fs = std::filesystem;

// A folder of its own, gone with the test.
struct Folder {
  fs::path path = fs::temp_directory_path() / ("civicatlas-" + std::to_string(std::random_device()()));
  Folder() { fs::create_directory(path); }
  ~Folder() { fs::remove_all(path); }
  std::string operator/(const char* name) const { return (path / name).string(); }
  std::size_t files() const { return std::distance(fs::directory_iterator(path), fs::directory_iterator()); }
};

std::string content(const std::string& path) {
  std::ifstream file(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(file), {}};
}

constexpr double patience = 60;  // seconds

// The set of a run: every file holds its number; each second run has no third file.
void publish_run(const Folder& folder, int run, int fault = 0) {
  const std::string text = std::to_string(run) + std::string(20000, '.');
  std::vector<std::unique_ptr<civic::FileWriter>> files;
  for (const char* name : {"a.shp", "a.dbf", "a.prj"}) {
    if (name == std::string("a.prj") && run % 2 == 1) continue;
    files.push_back(std::make_unique<civic::FileWriter>(folder / name));
    files.back()->write(text);
  }
  if (fault) fs::create_directory(folder / "a.dbf");
  std::vector<std::string> removed;
  if (run % 2 == 1) removed.push_back(folder / "a.prj");
  civic::publish_together(files, removed, patience);
}

void need_one_run(const Folder& folder) {
  const std::string shp = content(folder / "a.shp");
  REQUIRE(content(folder / "a.dbf") == shp);
  const int run = std::stoi(shp);
  REQUIRE(fs::exists(folder / "a.prj") == (run % 2 == 0));
  if (run % 2 == 0) REQUIRE(content(folder / "a.prj") == shp);
}

}  // namespace

TEST_CASE("files that belong together change together, or not at all") {
  const Folder folder;
  publish_run(folder, 2);
  need_one_run(folder);
  publish_run(folder, 3);
  need_one_run(folder);
  REQUIRE(folder.files() == 2);
  fs::remove(folder / "a.dbf");
  CHECK_THROWS_AS(publish_run(folder, 4, 1), civic::FileError);
  CHECK(std::stoi(content(folder / "a.shp")) == 3);
  CHECK_FALSE(fs::exists(folder / "a.prj"));
  CHECK(folder.files() == 2);
}

TEST_CASE("a journal that others laid there changes members alone") {
  const Folder folder;
  publish_run(folder, 2);
  const Folder elsewhere;
  std::ofstream(elsewhere / "mine.prj") << "mine";
  std::ofstream(folder / "b.shp") << "other";
  const std::string victim = elsewhere / "mine.prj", up = "../" + elsewhere.path.filename().string() + "/mine.prj";
  const std::string aside = ".old-00000000", part = ".part-00000000";
  std::ofstream(folder / ("b.shp" + part).c_str()) << "changed";
  using Lines = std::vector<std::string>;
  for (const Lines& change :
       {Lines{"", victim, victim + aside}, Lines{"", up, up + aside}, Lines{"", "b.shp", "b.shp" + aside},
        Lines{"b.shp" + part, "a.shp", "a.shp" + aside}, Lines{"b.shp", "a.shp", "a.shp" + aside}}) {
    std::string journal;
    for (const Lines& lines : {Lines{"civicatlas change 1", "process 1 on a machine"}, change, Lines{"end"}})
      for (const std::string& line : lines) journal += line + '\0';
    std::ofstream(folder / ".a.civicatlas-change", std::ios::binary) << journal;
    civic::settle_files(folder / "a.shp", patience);
    CHECK(content(victim) == "mine");
    CHECK(content(folder / "b.shp") == "other");
    need_one_run(folder);
    CHECK_FALSE(civic::are_being_changed(folder / "a.shp"));
  }
}

#if !defined(_WIN32)

namespace {

// A process that writes run after run until it is killed.
pid_t start_writer(const Folder& folder, int first) {
  const pid_t child = ::fork();
  if (child != 0) return child;
  try {
    for (int run = first;; ++run) publish_run(folder, run);
  } catch (...) {
    ::_exit(1);
  }
}

void kill_writer(pid_t child) {
  ::kill(child, SIGKILL);
  int status = 0;
  ::waitpid(child, &status, 0);
  REQUIRE(WIFSIGNALED(status));  // and did not end by an error of its own
}

}  // namespace

TEST_CASE("a change that is killed in the middle is carried out by who comes next") {
  const Folder folder;
  publish_run(folder, 0);
  std::mt19937 random(20261128);
  int in_the_middle = 0;
  for (int kill = 0; kill < 60 || in_the_middle == 0; ++kill) {
    const pid_t writer = start_writer(folder, kill);
    std::this_thread::sleep_for(std::chrono::microseconds(random() % 20000));
    kill_writer(writer);
    in_the_middle += civic::are_being_changed(folder / "a.shp");
    if (kill % 2 == 0) {
      civic::settle_files(folder / "A.DBF", patience);  // by any name of the set
    } else {
      publish_run(folder, kill);
    }
    need_one_run(folder);
    REQUIRE_FALSE(civic::are_being_changed(folder / "a.shp"));
  }
}

TEST_CASE("two processes that change the same files take turns") {
  const Folder folder;
  publish_run(folder, 0);
  const pid_t one = start_writer(folder, 1000), other = start_writer(folder, 2000);
  std::this_thread::sleep_for(std::chrono::milliseconds(200));
  kill_writer(one);
  kill_writer(other);
  civic::settle_files(folder / "a.shp", patience);
  need_one_run(folder);
}

#endif
