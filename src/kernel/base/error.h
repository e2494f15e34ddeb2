// Errors of the core. Each kind is a type of its own, so that a binding can turn it into a class of its language.
#pragma once
#include <stdexcept>
#include <string>

#include "portable.h"

namespace civic {

struct Error : std::runtime_error {
  using std::runtime_error::runtime_error;
};

// A file or text that does not follow its format.
struct FormatError : Error {
  using Error::Error;
};

// A source that would unpack to more than it may.
struct LimitError : FormatError {
  using FormatError::FormatError;
};

// A file that cannot be opened, read or written.
struct FileError : Error {
  using Error::Error;
};

// A coordinate reference system that is unknown, malformed or beyond what a method can do.
struct CrsError : Error {
  using Error::Error;
};

// An argument outside what an operation accepts.
struct ArgumentError : Error {
  using Error::Error;
};

// The user asked for the work to stop.
struct Interrupted : Error {
  Interrupted() : Error("interrupted") {}
};

}  // namespace civic
