// What work may take and whom it asks and tells. A host program has one context for each of its threads that call the
// core, or shares one where only one of them calls at a time; the threads that help a call take over its context.
#pragma once
#include <algorithm>
#include <atomic>
#include <functional>
#include <memory>
#include <thread>

namespace civic {

class KeptIndexes;

struct Context {
  unsigned threads = std::max(1u, std::thread::hardware_concurrency());  // that a loop may use, the calling one too
  double unpack_bytes = 0;  // that a source may unpack to; 0 for a hundred times its size and at least 1 GB
  std::function<bool()> interrupt_requested;  // true where the user wants to stop
  std::function<void(double)> progress;       // takes the fraction of the present step that is done
  std::shared_ptr<KeptIndexes> indexes;       // made when the first is kept
  // Set where the calling thread was interrupted within a loop, so that the helpers end too; the outermost loop takes
  // it back.
  std::atomic<bool> stopping{false};
};

namespace detail {

inline Context*& present_context() {
  static Context usual;
  thread_local Context* present = &usual;
  return present;
}

}  // namespace detail

// That of this thread: the one a WithContext gave it, else one that all others share.
inline Context& context() { return *detail::present_context(); }

// While it lives, this thread works in another context.
class WithContext {
 public:
  explicit WithContext(Context& context) : before_(detail::present_context()) { detail::present_context() = &context; }
  ~WithContext() { detail::present_context() = before_; }
  WithContext(const WithContext&) = delete;

 private:
  Context* before_;
};

}  // namespace civic
