// What long work tells the host program: how far it is. Asked on the host program's thread only.
#pragma once
#include <cstddef>
#include <functional>

#include "error.h"

namespace civic {

// Returns true when the user wants to stop.
inline std::function<bool()>& interrupt_requested() {
  static std::function<bool()> hook;
  return hook;
}

// Takes the fraction of the present step that is done.
inline std::function<void(double)>& progress_hook() {
  static std::function<void(double)> hook;
  return hook;
}

// Whether this thread works beside the host program's, which alone is told of progress and asked for an interrupt; or
// is the host program's within a loop over several threads, which does so itself.
inline bool& works_beside() {
  thread_local bool beside = false;
  return beside;
}

// Says how far the work is, and ends it where the user wants to stop.
inline void check_in(std::size_t done, std::size_t total) {
  if (works_beside()) return;
  if (interrupt_requested() && interrupt_requested()()) throw Interrupted();
  if (progress_hook() && total > 0) progress_hook()(static_cast<double>(done) / static_cast<double>(total));
}

}  // namespace civic
