// The seal of stores that were made or checked in this process. A store that comes from outside (an RDS file, another
// process, a hand) has none and is checked once, when it is first used.
#pragma once
#include <Rcpp.h>

// NULL where there is none of this name.
SEXP store_column(const Rcpp::List& store, const char* name);

bool is_sealed(const Rcpp::List& store);
void seal(Rcpp::List& store);

// The extent of all its shapes, where whoever made a sealed store put it under the seal; NULL where not.
SEXP extent_under_seal(const Rcpp::List& store);
void put_extent_under_seal(const Rcpp::List& store, const Rcpp::NumericVector& extent);
