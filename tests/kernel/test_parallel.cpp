#include <atomic>
#include <catch2/catch.hpp>
#include <cmath>
#include <future>
#include <numeric>
#include <random>

#if !defined(_WIN32)
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>
#endif

#include "kernel/base/parallel.h"
#include "kernel/base/sort_by_key.h"
#include "kernel/statistics/grouped_sums.h"

using namespace civic;

namespace {

// A context of the test's own.
struct Own {
  Context context;
  WithContext with{context};
};

}  // namespace

TEST_CASE("every index is visited once, whatever the threads and the grain") {
  const Own own;
  for (unsigned threads : {1u, 2u, 7u}) {
    context().threads = threads;
    for (std::size_t n : {0u, 1u, 2u, 100u, 1001u}) {
      for (std::size_t grain : {0u, 1u, 64u, 5000u}) {
        std::vector<std::atomic<int>> visits(n);
        parallel_for(n, grain, [&](std::size_t begin, std::size_t end) {
          for (std::size_t i = begin; i < end; ++i) ++visits[i];
        });
        REQUIRE(std::all_of(visits.begin(), visits.end(), [](const auto& v) { return v == 1; }));
      }
    }
  }
}

TEST_CASE("collected pieces come in order") {
  const auto squares = parallel_collect<std::size_t>(1000, 7, [](std::size_t begin, std::size_t end, auto& out) {
    for (std::size_t i = begin; i < end; ++i)
      if (i % 3 == 0) out.push_back(i * i);
  });
  REQUIRE(squares.size() == 334);
  for (std::size_t k = 0; k < squares.size(); ++k) CHECK(squares[k] == 9 * k * k);
}

TEST_CASE("an exception of any chunk is thrown again") {
  const Own own;
  context().threads = 3;
  CHECK_THROWS_WITH(parallel_for(100, 1,
                                 [](std::size_t begin, std::size_t) {
                                   if (begin == 57) throw ArgumentError("row 57");
                                 }),
                    "row 57");
}

TEST_CASE("an interrupt stops the work") {
  const Own own;
  std::atomic<std::size_t> done{0};
  context().threads = 1;
  context().interrupt_requested = [] { return true; };
  CHECK_THROWS_AS(parallel_for(10, 1, [&](std::size_t, std::size_t) { ++done; }), Interrupted);
  CHECK(done == 1);

  // Three threads: the two beside this one wait until it has asked. More chunks than they could ever get through
  // follow, so that the loop ends because it is stopped.
  std::promise<void> asked;
  const std::shared_future<void> answer = asked.get_future().share();
  const std::thread::id here = std::this_thread::get_id();
  context().threads = 3;
  context().interrupt_requested = [&] {
    asked.set_value();
    return true;
  };
  done = 0;
  constexpr std::size_t endless = std::size_t{1} << 60;
  CHECK_THROWS_AS(parallel_for(endless, 1,
                               [&](std::size_t, std::size_t) {
                                 if (std::this_thread::get_id() != here) answer.wait();
                                 ++done;
                               }),
                  Interrupted);
  CHECK(done < endless);
}

TEST_CASE("sorts give the same on any number of threads") {
  const Own own;
  std::uint32_t state = 5;
  for (const std::size_t n : {0u, 1u, 20000u, 54321u}) {
    std::vector<std::uint32_t> values(n);
    for (auto& value : values) value = (state = state * 1664525u + 1013904223u) >> 20;  // with repeats
    auto expected = values;
    std::sort(expected.begin(), expected.end());
    for (const unsigned threads : {1u, 2u, 3u, 5u, 8u}) {
      context().threads = threads;
      auto sorted = values;
      parallel_sort(sorted);
      REQUIRE(sorted == expected);
    }
  }
}

TEST_CASE("sorts by key keep the order within a key, or take another, on any number of threads") {
  const Own own;
  struct Item {
    std::size_t key;
    std::uint32_t value;
    bool operator==(const Item&) const = default;
  };
  std::uint32_t state = 6;
  auto next = [&] { return (state = state * 1664525u + 1013904223u) >> 8; };
  const auto key_of = [](const Item& item) { return item.key; };
  const auto by_value = [](const Item& a, const Item& b) { return a.value < b.value; };
  for (const std::size_t n : {0u, 1u, 300u, 100000u})
    for (const std::size_t keys : {1u, 2u, 511u, 512u, 513u, 70001u}) {
      std::vector<Item> items(n);
      for (Item& item : items) item = {next() % keys, next() % 50};
      auto expected = items;
      std::stable_sort(expected.begin(), expected.end(), [](const Item& a, const Item& b) { return a.key < b.key; });
      std::vector<int> starts(keys + 1, 0);
      for (const Item& item : items) ++starts[item.key + 1];
      std::partial_sum(starts.begin(), starts.end(), starts.begin());
      auto ordered = expected;
      for (std::size_t key = 0; key < keys; ++key)
        std::sort(ordered.begin() + starts[key], ordered.begin() + starts[key + 1], by_value);
      for (const unsigned threads : {1u, 2u, 3u}) {
        context().threads = threads;
        auto sorted = items, inner = items;
        REQUIRE(sort_by_key(sorted, keys, key_of) == starts);
        REQUIRE(sorted == expected);
        REQUIRE(sort_by_key(inner, keys, key_of, by_value) == starts);
        REQUIRE(inner == ordered);
      }
    }
}

TEST_CASE("sums by group are the same on one thread and on several") {
  const Own own;
  std::mt19937 random(14);
  std::vector<double> values(1000);
  for (double& value : values) value = 1e-3 * static_cast<double>(random() % 100000);
  values[7] = std::nan("");
  std::vector<int> rows(100000), groups(rows.size());
  std::vector<double> expected(37, 0);
  for (std::size_t i = 0; i < rows.size(); ++i) {
    rows[i] = static_cast<int>(random() % values.size()) + 1;
    groups[i] = static_cast<int>(random() % 37) + 1;
    if (rows[i] != 8) expected[groups[i] - 1] += values[rows[i] - 1];
  }
  for (const unsigned threads : {1u, 2u, 3u}) {
    context().threads = threads;
    CHECK(grouped_sums(values, rows, groups, 37, true).sums == expected);
    CHECK(std::isnan(grouped_sums(values, rows, groups, 37, false).sums[0]));
  }
}

TEST_CASE("an interrupt ends loops within loops, on every thread, and the next work goes on") {
  const Own own;
  for (const unsigned threads : {1u, 3u}) {
    context().threads = threads;
    std::atomic<bool> wanted{false};
    context().interrupt_requested = [&] { return wanted.load(); };
    // Each thread is deep in a loop that would never end when the wish comes.
    constexpr std::size_t endless = std::size_t{1} << 60;
    CHECK_THROWS_AS(parallel_for(threads, 1,
                                 [&](std::size_t, std::size_t) {
                                   parallel_for(endless, 1, [&](std::size_t, std::size_t) { wanted = true; });
                                 }),
                    Interrupted);
    wanted = false;
    std::atomic<int> done{0};
    parallel_for(8, 1,
                 [&](std::size_t, std::size_t) { parallel_for(2, 1, [&](std::size_t, std::size_t) { ++done; }); });
    CHECK(done == 16);
  }
}

TEST_CASE("two threads of a host that have contexts of their own do not stop each other") {
  std::promise<void> begun, ended;
  const std::shared_future<void> others_begin = begun.get_future().share(), others_end = ended.get_future().share();
  auto other = std::async(std::launch::async, [&] {
    Own own;
    own.context.threads = 3;
    own.context.interrupt_requested = [&] {
      others_begin.wait();
      return true;
    };
    try {
      parallel_for(std::size_t{1} << 60, 1, [](std::size_t, std::size_t) {});
    } catch (const Interrupted&) {
      ended.set_value();
      return true;
    }
    return false;
  });
  Own own;
  own.context.threads = 1;
  std::atomic<int> done{0};
  // Begins before the other loop is stopped, and goes on after.
  parallel_for(10, 1, [&](std::size_t begin, std::size_t) {
    if (begin == 0) begun.set_value();
    if (begin == 5) others_end.wait();
    ++done;
  });
  CHECK(done == 10);
  CHECK(other.get());
}

TEST_CASE("the helpers of a loop work in the context of its caller") {
  Own own;
  own.context.threads = 3;
  std::atomic<int> strangers{0}, helped{0};
  std::promise<void> joined;
  const std::thread::id here = std::this_thread::get_id();
  parallel_for(1000, 1, [&](std::size_t, std::size_t) {
    strangers += &context() != &own.context;
    if (std::this_thread::get_id() != here && helped.fetch_add(1) == 0) joined.set_value();
    if (std::this_thread::get_id() == here && helped == 0) joined.get_future().wait();  // for a helper to join
  });
  CHECK(strangers == 0);
  CHECK(helped > 0);
}

TEST_CASE("threads are made once, and their loops do not make others") {
  const Own own;
  end_threads();
  context().threads = 3;
  CHECK(pooled_threads() == 0);
  std::atomic<std::size_t> done{0};
  for (int loop = 0; loop < 1000; ++loop)
    parallel_for(8, 1, [&](std::size_t, std::size_t) {
      auto beside = start_beside(1 << 20, [&] { return std::size_t{1}; });
      parallel_for(4, 1, [&](std::size_t begin, std::size_t end) { done += end - begin; });
      done += beside.get();
    });
  CHECK(done == 1000 * 8 * 5);
  CHECK(pooled_threads() == 2);
}

TEST_CASE("work beside gives its result or its exception, whoever does it") {
  const Own own;
  context().threads = 2;
  for (const std::size_t items : {std::size_t{1}, std::size_t{1} << 20}) {
    auto result = start_beside(items, [] { return 5; });
    CHECK(result.get() == 5);
    auto failing = start_beside(items, []() -> int { throw ArgumentError("beside"); });
    CHECK_THROWS_WITH(failing.get(), "beside");
    std::atomic<bool> ran{false};
    {
      auto forgotten = start_beside(items, [&] { ran = true; });
    }  // waited for where it was begun
  }
}

// ThreadSanitizer ends a process that starts threads after a fork.
#if !defined(_WIN32) && !defined(__SANITIZE_THREAD__)

namespace {

// What a forked process gives back: 0 where all numbers were visited.
int visit_in_a_child(bool without_threads) {
  const pid_t child = ::fork();
  if (child == 0) {
    const rlimit none{1, 1};
    // The limit does not hold for the superuser.
    if (without_threads && ((::getuid() == 0 && ::setuid(65534) != 0) || ::setrlimit(RLIMIT_NPROC, &none) != 0))
      ::_exit(3);
    std::atomic<std::size_t> done{0};
    parallel_for(1000, 1, [&](std::size_t begin, std::size_t end) { done += end - begin; });
    ::_exit(done == 1000 && (pooled_threads() == 0) == without_threads ? 0 : 1);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

}  // namespace

TEST_CASE("a forked process has threads of its own, and does without where none can be had") {
  const Own own;
  context().threads = 3;
  parallel_for(100, 1, [](std::size_t, std::size_t) {});
  CHECK(visit_in_a_child(false) == 0);
  CHECK(visit_in_a_child(true) == 0);
}

#endif
