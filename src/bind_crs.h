// CRS values between R and the core.
#pragma once
#include <Rcpp.h>

#include "kernel/crs/crs.h"

Rcpp::List r_crs(const civic::Crs& crs);
civic::Crs kernel_crs(const Rcpp::List& crs);
