#' What the verbs counted
#'
#' A verb says in a line how many rows it matched, left out, repeated or cut. The same as data, so that a script can ask what became of
#' its rows and stop where they are not what they should be.
#' @param x A spatial frame.
#' @return A tibble of one row for each thing that was counted: `step` and `verb` as in [history_of()], `count`, of which things it is `of`
#'   (`"row"`, `"vertex"`), `what` was found of them and what became of them, their `fate` (`NA` where nothing did). What a verb noted without
#'   a number, has no `count`.
#' @seealso [history_of()] for the steps themselves.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(wards)
#' joined <- join_where(rooms, wards, unmatched = "drop")
#' account_of(joined)
#' @export
account_of <- function(x) {
  need_frame(x, "account_of", rlang::current_env())
  steps <- attr(x, "history", exact = TRUE)
  accounts <- lapply(steps, `[[`, "account")
  of_step <- rep(seq_along(steps), lengths(accounts))
  pick <- function(field, type) vapply(unlist(accounts, recursive = FALSE), `[[`, type, field)
  verbs <- vapply(steps[of_step], `[[`, "", "verb")
  tibble::tibble(step = of_step, verb = verbs, count = pick("count", 0), of = pick("of", ""), what = pick("what", ""), fate = pick("fate", ""))
}

# --- the account as data -----------------------------------------------------------------------------------------------------

account <- function(...) Filter(Negate(is.null), list(...))

# So many rows, or other things, of which is told `what` they are and what became of them; of none nothing is told, unless `none` is.
entry <- function(count, what, fate = NA_character_, of = "row", none = FALSE) {
  if (none || is.na(count) || count > 0) list(count = as.double(count), of = of, what = what, fate = fate)
}

# What is told without a number.
remark <- function(text) entry(NA, text, of = NA_character_)

# "12 unmatched (kept with NA)", "2 pairs only touch (left out)"
account_in_words <- function(account) {
  vapply(account, function(entry) {
    number <- if (is.na(entry$count)) NULL else if (entry$of == "row") format_count(entry$count) else counted(entry$count, entry$of, plural_of(entry$of))
    paste0(c(number, entry$what, if (!is.na(entry$fate)) paste0("(", entry$fate, ")")), collapse = " ")
  }, "")
}

# In words, of the step that made a frame of others; of none where it has no step that they have not.
new_account <- function(x, others) {
  last_step <- function(x) utils::tail(attr(x, "history", exact = TRUE), 1)
  made_by <- last_step(x)
  if (!length(made_by) || any(vapply(others, function(other) identical(last_step(other), made_by), NA))) return("")
  paste(account_in_words(made_by[[1]]$account), collapse = "; ")
}

plural_of <- function(noun) if (noun == "vertex") "vertices" else paste0(noun, "s")
