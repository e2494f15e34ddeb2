// The threads that help the calling one. They are made once, when they are first needed, and wait for work from then
// on.
#pragma once
#include <functional>

#include "context.h"

namespace civic {

class ThreadPool;

// Work that up to so many idle threads of the pool may join in, each calling it once, until it is withdrawn. Where no
// thread can be had, as under a limit of the system, nobody joins, and its owner does all of it.
class OfferedWork {
 public:
  OfferedWork(std::function<void()> work, unsigned helpers);
  ~OfferedWork() { withdraw(); }
  OfferedWork(const OfferedWork&) = delete;
  // Ends the offer, and waits for those who joined; gives how many did.
  unsigned withdraw();

 private:
  friend class ThreadPool;
  std::function<void()> work_;
  Context& context_ = context();
  ThreadPool* pool_ = nullptr;
  unsigned wanted_, joined_ = 0, busy_ = 0;
};

// Ends the threads of the pool; for before the code they run is unloaded.
void end_threads();

// How many there are.
unsigned pooled_threads();

}  // namespace civic
