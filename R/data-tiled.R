# Layers in tiles. A tiled layer is a `source` (see tile_source()), the `steps` that are put off until they are run, and a `prototype`, a frame
# without rows that went through the same steps and so tells columns, their types and the CRS.

new_tiled_layer <- function(source, prototype, steps = list()) {
  structure(list(source = source, prototype = prototype, steps = steps), class = "tiled_layer")
}

is_tiled <- function(x) inherits(x, "tiled_layer")

# The layer that decides how a verb is done: the first that is tiled of those it takes, else the first. One that was not given is told as the verb's.
deciding_layer <- function(...) {
  frame <- rlang::caller_env()
  for (layer in as.list(substitute(list(...)))[-1]) {
    if (eval(call("missing", layer), frame)) layer_is_missing(as.character(layer), frame)
  }
  Find(is_tiled, list(...)) %||% ..1
}

layer_is_missing <- function(name, call) fail("argument", "{.arg {name}} is missing: which layer?", call = call)

# The verbs that work on tiled layers. Files of R/tile-*.R register theirs:
# * `layers`: the arguments that take layers, the first of which may be tiled
# * `masked`: arguments that are expressions on columns, "..." among them
# * `how(args, slot)`: how the step runs (see R/tile-verbs.R), or an error where it cannot
# Each is a generic, whose method for tiled layers puts the call off.
tiled_verbs <- new.env(parent = emptyenv())
register_tiled_verb <- function(name, how, layers = "x", masked = character()) tiled_verbs[[name]] <- list(how = how, layers = layers, masked = masked)

# What files of R/tile-*.R do for those below them: `open` a folder, `write` a layer, `describe` it, give a frame `for_map`.
tile_work <- new.env(parent = emptyenv())
register_tile_work <- function(name, work) assign(name, work, envir = tile_work)

register_methods_on_tiles <- function(namespace) {
  for (verb in names(tiled_verbs)) registerS3method(verb, "tiled_layer", method_on_tiles(verb), namespace)
}

method_on_tiles <- function(verb) rlang::new_function(formals(verb), rlang::expr(put_off(!!verb)), topenv())

# The call of a verb is kept, to be run tile by tile (see run_tiles()). Where the first layer is a frame and the second is tiled, and the verb goes by
# the rows of the first, these are put into tiles that are in memory.
put_off <- function(verb, frame = rlang::caller_env()) {
  about <- tiled_verbs[[verb]]
  args <- arguments_asked(verb, frame)
  slot <- Find(function(name) is_tiled(args[[name]]), about$layers)
  how <- about$how(args, slot)
  if (how$kind == "rows" && slot != about$layers[1]) {
    slot <- about$layers[1]
    args[[slot]] <- tiles_of_frame(args[[slot]])
  }
  layer <- args[[slot]]
  if (how$kind == "rows") for (name in intersect(about$masked, names(args))) need_by_row(args[[name]], names(layer$prototype), verb)
  args[slot] <- list(NULL)
  columns <- unlist(c(list(names(layer$prototype)), lapply(args, function(value) if (is_tiled(value)) names(value$prototype) else names(value))))
  step <- list(verb = verb, args = lapply(args, portable, columns), slot = slot, text = text_of_step(rlang::frame_fn(frame), frame, slot), how = how)
  with_step(layer, step, frame)
}

# The call without the layer that it works on, which steps before gave.
text_of_step <- function(fun, frame, slot) {
  call <- tryCatch(match.call(fun, call_of_verb(frame), expand.dots = TRUE, envir = parent.frame(3)), error = function(e) call_of_verb(frame))
  call[[slot]] <- NULL
  call_text(call)
}

# The layer with one step more; its prototype goes through it at once, so that what cannot be is told here.
with_step <- function(layer, step, frame) {
  first <- step
  first$args <- lapply(step$args, function(value) if (is_tiled(value)) value$prototype else value)
  prototype <- of_no_rows(perform_step_on(layer$prototype, first), frame)
  new_tiled_layer(layer$source, prototype, c(layer$steps, list(step)))
}

# A function of ours that works by rows, as a step.
with_row_step <- function(layer, fun, args) {
  step <- list(verb = fun, args = args, slot = "x", text = fun, how = list(kind = "rows"))
  with_step(layer, step, NULL)
}

# A frame in tiles of rows that lie near each other, with the rows' numbers in a column of its own.
tiles_of_frame <- function(x, rows = 50000) {
  shapes <- as_shapes(x)
  extent <- unname(box_of(shapes))
  extent[is.na(extent)] <- 0
  order <- order(core(core_hilbert_keys(handles_of(shapes), store_of(shapes), extent)))
  groups <- unname(split(order, ceiling(seq_along(order) / rows)))
  boxes <- vapply(groups, function(group) unname(box_of(shapes[group])), double(4))
  dim(boxes) <- c(4L, length(groups))
  tiles <- tibble::tibble(rows = as.double(lengths(groups)), xmin = boxes[1, ], ymin = boxes[2, ], xmax = boxes[3, ], ymax = boxes[4, ], bytes = NA_real_)
  x[[row_number_column]] <- seq_len(nrow(x))
  attr(x, "history") <- list()
  new_tiled_layer(list(frame = x, rows = groups, tiles = tiles, crs = crs_of(x), shape = shape_column_name(x)), x[0, ])
}

row_number_column <- ".row_of_frame"

# A prototype's own lines say nothing: they are about no rows. Errors are the verb's.
of_no_rows <- function(expr, call) {
  out <- tryCatch(silently(expr), error = function(e) {
    e$call <- if (is.environment(call)) call_of_verb(call)
    rlang::cnd_signal(e)
  })
  if (is.data.frame(out)) attr(out, "history") <- list()
  out[0, ]
}

# The arguments of a verb, called in a frame, by name: values, defaults among them, and expressions where it takes these. What stands under `...` comes last.
arguments_asked <- function(verb, frame) {
  masked <- tiled_verbs[[verb]]$masked
  arguments <- formals(rlang::frame_fn(frame))
  names <- setdiff(names(arguments), "...")
  is_left_out <- function(name) rlang::is_missing(arguments[[name]]) && eval(call("missing", as.name(name)), frame)
  names <- Filter(function(name) name %in% masked || !is_left_out(name), names)
  value_of <- function(name) {
    if (name %in% masked) eval(call("enquo", as.name(name)), list(enquo = rlang::enquo), frame) else get(name, frame)
  }
  dots <- if ("..." %in% masked) eval(quote(enquos(...)), list(enquos = rlang::enquos), frame)
  if ("..." %in% setdiff(names(arguments), masked)) dots <- eval(quote(list(...)), frame)
  c(lapply(stats::setNames(nm = names), value_of), as.list(dots))
}

# What of them stood under `...`.
dots_among <- function(args, verb) args[!rlang::names2(args) %in% names(formals(verb))]

is_asked <- function(quosure) rlang::is_quosure(quosure) && !rlang::quo_is_null(quosure)

# An argument as another process can have it: an expression takes with it what it names, a frame leaves its history.
portable <- function(value, columns) {
  if (is_spatial_frame(value)) {
    attr(value, "history") <- list()
    return(value)
  }
  if (!rlang::is_quosure(value)) return(value)
  env <- rlang::quo_get_env(value)
  own <- new.env(parent = baseenv())
  for (name in setdiff(all.names(rlang::quo_get_expr(value), unique = TRUE), columns)) {
    found <- get0(name, env)
    if (is.null(found) || identical(found, get0(name, baseenv()))) next
    assign(name, found, envir = own)
  }
  rlang::new_quosure(rlang::quo_get_expr(value), own)
}

# Calls the verb of a step on a layer. Frames are handed over by name, so that what is written down of the call is short.
perform_step_on <- function(layer, step) {
  args <- step$args
  args[step$slot] <- list(layer)
  named <- nzchar(rlang::names2(args)) & !vapply(args, rlang::is_quosure, NA)
  env <- list2env(args[named], parent = asNamespace("civicatlas"))
  given <- args
  given[named] <- lapply(names(args)[named], as.name)
  eval(as.call(c(if (step$verb %in% dplyr_verbs) call("::", quote(dplyr), as.name(step$verb)) else as.name(step$verb), given)), env)
}

dplyr_verbs <- c("filter", "mutate", "select", "rename")

# What a verb that is not for tiled layers says of one.
# A verb of frames alone.
need_frame <- function(x, verb, call) {
  need_no_tiles(x, call)
  if (!is_spatial_frame(x)) fail("argument", c("{.fn {verb}} takes a spatial frame.", frame_again(x)), call = call)
}

# Verbs of other packages may leave a plain table that still holds shapes.
frame_again <- function(x) {
  if (is.data.frame(x) && any(vapply(x, is_shapes, NA))) c(i = "The table holds shapes: {.code as_spatial_frame(x)} makes it a frame again.")
}

need_no_tiles <- function(x, call) {
  if (is_tiled(x)) fail("argument", c("A tiled layer cannot be used here.", in_memory_remedy()), call = call)
}

in_memory_remedy <- function() {
  typed(c(i = "{.code dplyr::collect(x)} gives a frame in memory."), c(i = "{.code civicatlas convert INPUT OUTPUT} makes one file of it."))
}

# Functions that look at all rows would see those of a tile.
need_by_row <- function(asked, names, verb) {
  if (goes_by_row(tree_of_code(asked), names)) return(invisible())
  what <- rlang::as_label(asked)
  one_type <- if ("ifelse" %in% all.names(rlang::quo_get_expr(asked))) c(i = "{.code dplyr::if_else()} gives values of one type, whatever the rows are.")
  fail("argument", c("{.code {what}} may look at all rows at once, and {.fn {verb}} sees those of one tile.", one_type, in_memory_remedy()), call = NULL)
}
