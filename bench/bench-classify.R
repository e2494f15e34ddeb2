# Class intervals.

set.seed(4)
values <- rlnorm(1e6)
quarter <- values[1:250000]
sorting <- seconds(sort(values, method = "radix"), 3)
took <- seconds(class_breaks(values, 7), 3)
took_quarter <- seconds(class_breaks(quarter, 7), 3)
report("natural breaks of 1 million values in 7 classes, against sorting them", sprintf("%.1f times, %.2f s", took / sorting, took), "under 0.5 s", took < 0.5)
report("natural breaks, growth from n to 4n", sprintf("exponent %.2f", exponent(took_quarter, took)), "under 1.3", exponent(took_quarter, took) < 1.3)
