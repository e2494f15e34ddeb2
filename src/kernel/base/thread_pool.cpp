#include "thread_pool.h"

#include <condition_variable>
#include <deque>
#include <mutex>
#include <system_error>
#include <thread>
#include <vector>

#include "portable.h"
#include "progress.h"

namespace civic {

class ThreadPool {
 public:
  ~ThreadPool() {
    {
      const std::lock_guard guard(lock_);
      ending_ = true;
    }
    offered_.notify_all();
    for (std::thread& thread : threads_) thread.join();
  }

  void offer(OfferedWork& work) {
    {
      const std::lock_guard guard(lock_);
      grow(work.wanted_);
      offers_.push_back(&work);
    }
    offered_.notify_all();
  }

  unsigned withdraw(OfferedWork& work) {
    std::unique_lock guard(lock_);
    std::erase(offers_, &work);
    left_.wait(guard, [&] { return work.busy_ == 0; });
    return work.joined_;
  }

  unsigned size() {
    const std::lock_guard guard(lock_);
    return static_cast<unsigned>(threads_.size());
  }

 private:
  // As far as the system allows.
  void grow(std::size_t wanted) {
    try {
      while (threads_.size() < wanted) threads_.emplace_back([this] { help(); });
    } catch (const std::system_error&) {
    }
  }

  void help() {
    works_beside() = is_helper() = true;
    std::unique_lock guard(lock_);
    for (;;) {
      offered_.wait(guard, [&] { return ending_ || !offers_.empty(); });
      if (ending_) return;
      OfferedWork& work = *offers_.front();
      if (--work.wanted_ == 0) offers_.pop_front();
      ++work.joined_;
      ++work.busy_;
      guard.unlock();
      {
        const WithContext with(work.context_);
        work.work_();
      }
      guard.lock();
      if (--work.busy_ == 0) left_.notify_all();
    }
  }

  std::mutex lock_;
  std::condition_variable offered_, left_;
  std::deque<OfferedWork*> offers_;
  std::vector<std::thread> threads_;
  bool ending_ = false;
};

namespace {

// Never destroyed, as threads that wait on it live to the end of the process; a process that was forked from this one
// has none of them and makes a pool of its own.
struct Pool {
  ThreadPool* threads = nullptr;
  int process = 0;
  bool is_ours() const { return threads && process == process_number(); }
} pool;
std::mutex pool_lock;

ThreadPool& shared_pool() {
  const std::lock_guard guard(pool_lock);
  if (!pool.is_ours()) pool = {new ThreadPool, process_number()};
  return *pool.threads;
}

}  // namespace

OfferedWork::OfferedWork(std::function<void()> work, unsigned helpers) : work_(std::move(work)), wanted_(helpers) {
  if (helpers == 0) return;
  pool_ = &shared_pool();
  pool_->offer(*this);
}

unsigned OfferedWork::withdraw() { return pool_ ? pool_->withdraw(*this) : 0; }

unsigned pooled_threads() {
  const std::lock_guard guard(pool_lock);
  return pool.is_ours() ? pool.threads->size() : 0;
}

void end_threads() {
  const std::lock_guard guard(pool_lock);
  if (pool.is_ours()) delete pool.threads;
  pool = {};
}

}  // namespace civic
