// What long work tells the host program: how far it is; and whether the user wants to stop, which the host program is
// asked on its own thread only.
#pragma once
#include <chrono>
#include <cstddef>

#include "context.h"
#include "error.h"

namespace civic {

// Whether this thread works beside the host program's, which alone is told of progress and asked for an interrupt; or
// is the host program's within a loop over several threads, which does so itself.
inline bool& works_beside() {
  thread_local bool beside = false;
  return beside;
}

// Whether this thread was started by a loop, and is none of the host program's.
inline bool& is_helper() {
  thread_local bool helper = false;
  return helper;
}

// Once in a while, so that long loops seldom ask the host program.
inline bool is_time_to_ask() {
  thread_local std::chrono::steady_clock::time_point last{};
  const auto now = std::chrono::steady_clock::now();
  if (now - last < std::chrono::milliseconds(50)) return false;
  last = now;
  return true;
}

// Ends the work where the user wants to stop, whom this thread may ask.
inline void ask_whether_to_end() {
  if (!context().interrupt_requested || !context().interrupt_requested()) return;
  if (works_beside()) context().stopping = true;
  throw Interrupted();
}

// Ends the work where the user wants to stop; for loops of any length, in which it asks once in a while.
inline void end_if_interrupted() {
  if (context().stopping) throw Interrupted();
  if (!is_helper() && is_time_to_ask()) ask_whether_to_end();
}

// Says how far the work is, and ends it where the user wants to stop.
inline void check_in(std::size_t done, std::size_t total) {
  if (works_beside()) return end_if_interrupted();
  if (context().stopping) throw Interrupted();
  ask_whether_to_end();
  if (context().progress && total > 0) context().progress(static_cast<double>(done) / static_cast<double>(total));
}

}  // namespace civic
