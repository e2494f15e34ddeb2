// Compiles the simdjson library into the core where no built one is linked.
#ifndef CIVIC_SYSTEM_SIMDJSON
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wall"
#include "simdjson.cpp"
#pragma GCC diagnostic pop
#endif
