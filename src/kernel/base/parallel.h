// Loops over several threads. The calling thread works too, and alone reports progress and polls for an interrupt.
#pragma once
#include <algorithm>
#include <atomic>
#include <cstddef>
#include <exception>
#include <future>
#include <mutex>
#include <type_traits>
#include <vector>

#include "context.h"
#include "error.h"
#include "progress.h"
#include "thread_pool.h"

namespace civic {

// Work that a thread of the pool does beside the calling one, which goes on. Where none is free before its result is
// asked for, the calling one does it then.
template <class Work>
class Beside {
 public:
  Beside(Work work, unsigned helpers)
      : task_(std::move(work)), result_(task_.get_future()), offered_([this] { task_(); }, helpers) {}
  auto get() {
    if (offered_.withdraw() == 0) task_();
    return result_.get();
  }

 private:
  using Result = std::invoke_result_t<Work&>;
  std::packaged_task<Result()> task_;
  std::future<Result> result_;
  OfferedWork offered_;
};

// Starts `work` on so many items beside the calling thread. With one thread allowed, in a loop over threads, and for
// few items, it is done when it is asked for.
template <class Work>
Beside<Work> start_beside(std::size_t items, Work work) {
  constexpr std::size_t least = 1 << 12;  // below which waking a thread takes longer
  return {std::move(work), context().threads == 1 || works_beside() || items < least ? 0u : 1u};
}

// Calls body(begin, end) over [0, n) in chunks of `grain`, in any order, on as many threads as the context allows; a
// loop within a loop runs on its own thread alone. The first exception of any chunk is thrown again here, after all
// threads have stopped.
template <class Body>
void parallel_for(std::size_t n, std::size_t grain, const Body& body) {
  if (n == 0) return;
  grain = std::max<std::size_t>(1, grain);
  const std::size_t chunks = (n + grain - 1) / grain;
  const std::size_t helpers = works_beside() ? 0 : std::min<std::size_t>(context().threads, chunks) - 1;

  std::atomic<std::size_t> next{0};
  std::atomic<bool> stop{false};
  std::exception_ptr failure;
  std::mutex failure_lock;

  auto work = [&] {
    const bool within = works_beside();
    try {
      for (std::size_t chunk; !stop && (chunk = next.fetch_add(1)) < chunks;) {
        works_beside() = true;
        body(chunk * grain, std::min(n, (chunk + 1) * grain));
        works_beside() = within;
        check_in(chunk + 1, chunks);
      }
    } catch (...) {
      std::lock_guard<std::mutex> guard(failure_lock);
      if (!failure) failure = std::current_exception();
      stop = true;
      if (!within) context().stopping = true;  // the loops of other threads within this one
    }
    works_beside() = within;
  };

  OfferedWork offered(work, static_cast<unsigned>(helpers));
  work();
  offered.withdraw();
  if (!works_beside()) context().stopping = false;
  if (failure) std::rethrow_exception(failure);
}

// Runs produce(begin, end, out) over chunks and returns the chunks' outputs joined in order.
template <class T, class Produce>
std::vector<T> parallel_collect(std::size_t n, std::size_t grain, const Produce& produce) {
  grain = std::max<std::size_t>(1, grain);
  std::vector<std::vector<T>> pieces((n + grain - 1) / grain);
  parallel_for(n, grain, [&](std::size_t begin, std::size_t end) { produce(begin, end, pieces[begin / grain]); });
  std::size_t total = 0;
  for (const auto& piece : pieces) total += piece.size();
  std::vector<T> all;
  all.reserve(total);
  for (auto& piece : pieces) {
    all.insert(all.end(), piece.begin(), piece.end());
    std::vector<T>().swap(piece);
  }
  return all;
}

// Sorts pieces side by side and merges them, each pair of pieces in two halves side by side.
template <class T, class Less = std::less<>>
void parallel_sort(std::vector<T>& values, const Less& less = {}) {
  constexpr std::size_t least = 1 << 14;  // below which one thread is as fast
  const std::size_t n = values.size(), pieces = works_beside() || n < least ? 1 : context().threads;
  auto cut = [&](std::size_t k) { return n * std::min(k, pieces) / pieces; };
  parallel_for(pieces, 1, [&](std::size_t begin, std::size_t end) {
    for (std::size_t k = begin; k < end; ++k)
      std::sort(values.begin() + static_cast<std::ptrdiff_t>(cut(k)),
                values.begin() + static_cast<std::ptrdiff_t>(cut(k + 1)), less);
  });
  if (pieces == 1) return;
  std::vector<T> merged(n);
  for (std::size_t width = 1; width < pieces; width *= 2) {
    const std::size_t pairs = (pieces + 2 * width - 1) / (2 * width);
    parallel_for(2 * pairs, 1, [&](std::size_t begin, std::size_t end) {
      for (std::size_t half = begin; half < end; ++half) {
        const std::size_t k = half / 2 * 2 * width;
        const T *a = values.data() + cut(k), *b = values.data() + cut(k + width),
                *b_end = values.data() + cut(k + 2 * width);
        // Halved at the middle of the first piece, and where that would stand in the second.
        const T* a_middle = a + (b - a) / 2;
        const T* b_middle = a_middle == b ? b : std::lower_bound(b, b_end, *a_middle, less);
        if (half % 2 == 0)
          std::merge(a, a_middle, b, b_middle, merged.data() + cut(k), less);
        else
          std::merge(a_middle, b, b_middle, b_end, merged.data() + cut(k) + (a_middle - a) + (b_middle - b), less);
      }
    });
    values.swap(merged);
  }
}

}  // namespace civic
