// Things that are made when they are first asked for, by whichever thread, and kept.
#pragma once
#include <atomic>
#include <cstddef>
#include <memory>
#include <vector>

namespace civic {

template <class T>
class MadeOnce {
 public:
  explicit MadeOnce(std::size_t n) : made_(n) {}
  ~MadeOnce() {
    for (auto& one : made_) delete one.load();
  }
  MadeOnce(const MadeOnce&) = delete;
  MadeOnce& operator=(const MadeOnce&) = delete;

  // Two threads that ask at once may both make it; one is kept.
  template <class Make>
  const T& at(std::size_t i, const Make& make) const {
    if (const T* there = made_[i].load(std::memory_order_acquire)) return *there;
    auto own = std::make_unique<const T>(make());
    const T* other = nullptr;
    if (made_[i].compare_exchange_strong(other, own.get(), std::memory_order_acq_rel)) return *own.release();
    return *other;
  }

 private:
  mutable std::vector<std::atomic<const T*>> made_;
};

}  // namespace civic
