# A browser that tests drive.

skip_without_browser <- function() {
  skip_if_not_installed("chromote")
  skip_if(!nzchar(Sys.which("chromium")), "no browser here")
}

# A browser on a port that is its own: chromote draws one at random, which must differ between runs side by side, and waits in vain where
# another program has it, or where the browser hangs while it starts.
opened_browser <- function() {
  chromote::set_chrome_args(c("--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
                              "--disable-component-update", "--disable-sync"))
  withr::local_options(chromote.timeout = 60)
  for (attempt in 1:10) {
    browser <- tryCatch(withr::with_seed(Sys.getpid() + attempt, chromote::ChromoteSession$new(width = 1280, height = 800)), error = identity)
    if (!inherits(browser, "error")) return(browser)
  }
  stop("no browser could be opened: ", conditionMessage(browser))
}
