# Lightness and colours as readers see them: CIE Lab (D65) of the colour, of its grey print, and as readers without red or green cones
# see it (Machado, Oliveira and Fernandes 2009, table 1, full severity).

cones <- list(
  all = diag(3),
  without_red = rbind(c(0.152286, 1.052583, -0.204868), c(0.114503, 0.786281, 0.099216), c(-0.003882, -0.048116, 1.051998)),
  without_green = rbind(c(0.367322, 0.860646, -0.227968), c(0.280085, 0.672501, 0.047413), c(-0.011820, 0.042940, 0.968881))
)

linear <- function(colours) {
  v <- t(grDevices::col2rgb(colours)) / 255
  ifelse(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055)^2.4)
}

lab <- function(rgb) {
  xyz <- pmax(rgb, 0) %*% cbind(c(0.4124564, 0.3575761, 0.1804375), c(0.2126729, 0.7151522, 0.0721750), c(0.0193339, 0.1191920, 0.9503041))
  f <- apply(sweep(xyz, 2, c(0.95047, 1, 1.08883), "/"), 2, function(t) ifelse(t > 216 / 24389, t^(1 / 3), (24389 / 27 * t + 16) / 116))
  f <- matrix(f, ncol = 3)
  cbind(116 * f[, 2] - 16, 500 * (f[, 1] - f[, 2]), 200 * (f[, 2] - f[, 3]))
}

lightness <- function(colours) lab(linear(colours))[, 1]
# The least distance between any two colours, to any reader.
apart <- function(colours) min(vapply(cones, function(m) min(stats::dist(lab(linear(colours) %*% t(m)))), 0))

test_that("palettes of amounts run from light to dark in steps that grey print keeps", {
  for (palette in c("harbour", "ember", "moss", "dusk")) {
    for (n in 2:12) {
      steps <- diff(lightness(map_colours(n, palette)))
      expect_true(all(steps < -65 / n), info = paste(palette, n))
      expect_gt(apart(map_colours(n, palette)), 60 / n, label = paste(palette, n))
    }
  }
})

test_that("palettes of two sides keep the sides apart for every reader, and classes apart in grey", {
  for (palette in c("tide", "thaw")) {
    for (n in 2:12) {
      colours <- map_colours(n, palette)
      each <- n %/% 2
      expect_gt(apart(colours), 45 / n, label = paste(palette, n))
      left <- lightness(colours[seq_len(each)])
      right <- lightness(rev(colours)[seq_len(each)])
      expect_true(all(diff(left) > 0) && all(diff(right) > 0), info = paste(palette, n))
      expect_gt(min(stats::dist(lightness(colours))), 40 / n, label = paste(palette, n))
    }
    expect_gt(lightness(map_colours(7, palette)[4]), 90)
  }
})

test_that("colours of categories stay apart for every reader", {
  expect_gt(apart(map_colours(10, "quay")), 15)
  expect_gt(min(stats::dist(lightness(map_colours(8, "quay")))), 3)
})

test_that("colours are asked for by number and name", {
  expect_identical(rev(map_colours(4)), map_colours(4, reverse = TRUE))
  expect_length(unique(map_colours(12, "moss")), 12)
  expect_error(map_colours(5, "harbor"), "Nearest.*harbour", class = "civicatlas_error_choice")
  expect_error(map_colours(13), "1 to 12", class = "civicatlas_error_argument")
  expect_error(map_colours(11, "quay"), "1 to 10", class = "civicatlas_error_argument")
})
