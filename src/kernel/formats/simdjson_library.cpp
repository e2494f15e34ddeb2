// Compiles the simdjson library into the core where no built one is linked; without its AVX-512 form, which adds a
// third to the build and little to the speed.
#ifndef CIVIC_SYSTEM_SIMDJSON
#define SIMDJSON_IMPLEMENTATION_ICELAKE 0
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wall"
#include "simdjson.cpp"
#pragma GCC diagnostic pop
#endif
