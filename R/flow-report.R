#' A report of a run
#'
#' One self-contained page of HTML for colleagues: what was asked, the answer, maps, tables that can be sorted and downloaded, the data used with
#' their checksums, the steps with rows in and out, warnings, and versions. It needs no other file and no network, prints well, and follows the
#' reader's choice of a light or dark ground.
#'
#' @param run What [run_workflow()] gives.
#' @param file Path of the page to write: `.html`, or `.pdf`, which Chromium or Chrome prints.
#' @param answer A sentence for the top of the page; `NULL` for the answer of the workflow, or one about the first output.
#' @param rows Rows of each table that are shown; all are in the CSV that the page holds.
#' @param replace `TRUE` to replace a page that is there.
#' @return `file`, invisibly.
#' @section Errors: `civicatlas_error_file` where the page is there already or cannot be written.
#' @examples
#' run <- run_workflow(system.file("workflows", "largest-room.yaml", package = "civicatlas"), folder = tempfile())
#' atlas_report(run, tempfile(fileext = ".html"))
#' @export
atlas_report <- function(run, file, answer = NULL, rows = 100, replace = FALSE) {
  call <- rlang::current_env()
  if (!inherits(run, "workflow_run")) fail("argument", "{.arg run} must be what {.fn run_workflow} gives.", call = call)
  file <- path.expand(file)
  need_place(file, call)
  need_free(file, replace, call)
  page <- report_page(run, answer, rows)
  pages <- list(charToRaw(enc2utf8(paste0(paste(page, collapse = "\n"), "\n"))))
  if (ending_of(file) == "pdf") pages <- list(printed_page(pages[[1]], call))
  size <- write_files(stats::setNames(pages, file), call)
  say("Wrote {.file {file}}: {format_size(size)}.")
  invisible(file)
}

report_page <- function(run, answer, rows) {
  steps <- unique(unname(run$steps_of_outputs))
  steps <- steps[vapply(steps, function(step) is.data.frame(run$results[[step]]), NA)]
  steps <- steps[order(steps != (step_of_answer(run) %||% ""))]
  body <- c(
    html_tag("h1", run$title), html_tag("p", answer %||% answer_of_run(run) %||% answer_of_outputs(run), class = "answer"), html_maps(run),
    unlist(lapply(steps, function(step) html_section(title_of_step(step), html_data(result_columns_first(step, run), step, rows, run)))),
    html_section("What was asked", html_table(asked_table(run))),
    html_section("Data used", html_table(sources_table(run))),
    html_section("Steps", c(html_drawing(run), html_table(run$steps))),
    if (length(run$said)) html_section("Warnings", html_tag("ul", paste0("<li>", html_text(run$said), "</li>", collapse = ""), raw = TRUE)),
    html_tag("footer", paste0("civicatlas ", utils::packageVersion("civicatlas"), ", R ", getRversion(), "; ", format(Sys.time(), "%Y-%m-%d %H:%M"), "."))
  )
  c("<!DOCTYPE html>", "<html lang=\"en\">", "<head>", "<meta charset=\"utf-8\">",
    "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">",
    html_tag("title", run$title), html_tag("style", report_style, raw = TRUE), "</head>", "<body>", "<main>", body, "</main>",
    html_tag("script", report_script, raw = TRUE), "</body>", "</html>")
}

# Maps that steps drew, else one of the answer.
html_maps <- function(run) {
  pictures <- run$outputs[grepl("[.](png|jpe?g|svg|html)$", run$outputs, ignore.case = TRUE)]
  picture <- function(name) html_picture(pictures[[name]], name, described_map(run$workflow$steps[[run$steps_of_outputs[[name]]]], run))
  drawn <- vapply(names(pictures), picture, "")
  if (!length(drawn)) drawn <- html_map_of_answer(run)
  if (length(drawn)) html_section(if (length(drawn) > 1) "Maps" else "Map", drawn)
}

html_map_of_answer <- function(run) {
  map <- map_of_answer(run)
  if (is.null(map)) return(NULL)
  path <- tempfile(fileext = ".png")
  on.exit(unlink(path))
  quietly(save_map(map, path, 24, 15, "cm", 150))
  html_picture(path, "of the answer", described_column(column_of_answer(run), run$results[[step_of_answer(run)]]))
}

# What a map shows, in words: "Land far from the coast. Map of 24 rows by share, from 0 to 61.2: the most in Cape Lonely."
described_map <- function(step, run) {
  fill <- step$options$fill
  x <- run$results[[step$takes$layer]]
  if (is.null(fill) || !is.data.frame(x)) return(step$options$title)
  paste(c(if (!is.null(step$options$title)) paste0(step$options$title, "."), described_column(fill, x)), collapse = " ")
}

described_column <- function(column, x) {
  rows <- paste0("Map of ", counted(nrow(x), "row"))
  if (is.null(column)) return(paste0(rows, "."))
  values <- if (column %in% names(x) && is.numeric(x[[column]])) as.double(x[[column]])
  if (!any(is.finite(values))) return(paste0(rows, " by ", column, "."))
  texts <- Filter(is.character, as.list(attribute_table(x)))
  names <- Filter(function(text) !anyDuplicated(text), rev(texts))
  most <- if (length(names)) paste0("; the most in ", names[[1]][which.max(values)])
  paste0(rows, " by ", column, ", from ", format_number(min(values, na.rm = TRUE)), " to ", format_number(max(values, na.rm = TRUE)), most, ".")
}

# A page as the bytes of a PDF.
printed_page <- function(bytes, call) {
  need_package("chromote", "A PDF", call)
  browser <- tryCatch(suppressMessages(chromote::find_chrome()), error = function(e) NULL)
  if (is.null(browser)) fail("file", c("A PDF needs Chromium or Chrome, which is not found.", i = "Write the page as {.file .html} and print it."), call = call)
  folder <- tempfile("page")
  dir.create(folder)
  on.exit(unlink(folder, recursive = TRUE))
  writeBin(bytes, file.path(folder, "page.html"))
  args <- c("--headless", "--no-sandbox", "--disable-gpu", "--no-pdf-header-footer", paste0("--user-data-dir=", file.path(folder, "profile")),
            paste0("--print-to-pdf=", file.path(folder, "page.pdf")), file.path(folder, "page.html"))
  system2(browser, args, stdout = FALSE, stderr = FALSE, timeout = 120)
  if (!file.exists(file.path(folder, "page.pdf"))) fail("file", "{.file {browser}} did not print the page.", call = call)
  readBin(file.path(folder, "page.pdf"), "raw", file.size(file.path(folder, "page.pdf")))
}

asked_table <- function(run) {
  known <- run$asked[names(run$inputs)]
  field <- function(key) vapply(known, function(input) input[[key]] %||% "", "", USE.NAMES = FALSE)
  shown <- unlist(Map(value_in_words, run$inputs, field("type")), use.names = FALSE)
  tibble::tibble(input = names(known), meaning = field("title"), value = trimws(paste(shown, field("unit"))))
}

value_in_words <- function(value, type) {
  if (is.data.frame(value)) return(counted(nrow(value), "row"))
  if (type == "condition") return(condition_text(value))
  text <- paste(value, collapse = ", ")
  text <- without_secrets(text)
  if (type %in% c("layer", "file")) basename(text) else text
}

sources_table <- function(run) {
  layers <- Filter(function(name) run$asked[[name]]$type %in% c("layer", "file"), names(run$inputs))
  vctrs::vec_rbind(!!!lapply(layers, function(name) source_row(name, run$inputs[[name]], run$asked[[name]])))
}

source_row <- function(name, value, input) {
  frame <- is.data.frame(value)
  file <- if (!frame) split_place(value)$source
  here <- !frame && file.exists(file)
  describe <- function() quietly(describe_layer(value, layer = if (here) table_of_input(input, value), scan = if (here) FALSE))
  about <- if (frame || here) tryCatch(describe(), error = function(e) NULL)
  tibble::tibble(input = name, source = if (frame) "a frame" else basename(without_secrets(value)), rows = as.integer(about$rows %||% NA),
                 crs = if (is.null(about$extent)) "" else crs_label(about$crs), md5 = if (here) unname(tools::md5sum(file)) else "",
                 changed = if (here) format(file.mtime(file), "%Y-%m-%d %H:%M") else "")
}

# --- HTML ----------------------------------------------------------------------------------------------------------------

html_text <- function(text) {
  text <- printable(as.character(text))
  for (pair in list(c("&", "&amp;"), c("<", "&lt;"), c(">", "&gt;"), c("\"", "&quot;"))) text <- gsub(pair[1], pair[2], text, fixed = TRUE)
  text
}

html_tag <- function(name, content, class = NULL, raw = FALSE) {
  paste0("<", name, if (!is.null(class)) paste0(" class=\"", class, "\""), ">", paste(if (raw) content else html_text(content), collapse = "\n"), "</",
         name, ">")
}

html_section <- function(title, content) c("<section>", html_tag("h2", title), content, "</section>")

html_table <- function(data, titles = names(data)) {
  numeric <- ifelse(vapply(data, is.numeric, NA), " class=\"number\"", "")
  head <- paste0("<th scope=\"col\"", numeric, "><button type=\"button\">", html_text(titles), "</button></th>", collapse = "")
  rows <- if (nrow(data)) paste0("<tr>", do.call(paste0, unname(lapply(data, html_cells))), "</tr>")
  c("<div class=\"wide\"><table>", paste0("<thead><tr>", head, "</tr></thead>"), "<tbody>", rows, "</tbody></table></div>")
}

# Numbers carry their value, by which the script of the page sorts.
html_cells <- function(column) {
  if (!is.numeric(column)) {
    text <- if (is.list(column)) vapply(column, toString, "") else as.character(column)
    return(paste0("<td>", ifelse(is.na(text), "", html_text(text)), "</td>"))
  }
  text <- if (is.integer(column)) format_count(column) else numbers_in_column(column)
  value <- ifelse(is.na(column), "", format(column, digits = 15, trim = TRUE))
  paste0("<td class=\"number\" data-value=\"", value, "\">", ifelse(is.na(column), "", text), "</td>")
}

# A table with its first rows, and all of it as CSV within the page.
html_data <- function(x, name, rows, run) {
  table <- without_lists(attribute_table(x))
  titles <- column_titles(names(table), name, run)
  text <- lapply(table, delimited_text, separator = ",")
  csv <- paste(c(paste(delimited_text(names(table), ","), collapse = ","), if (nrow(table)) do.call(paste, c(unname(text), sep = ","))), collapse = "\n")
  link <- paste0("<p><a download=\"", html_text(name), ".csv\" href=\"data:text/csv;charset=utf-8;base64,", jsonlite::base64_enc(charToRaw(enc2utf8(csv))),
                 "\">",
                 html_text(paste0("Download ", name, ".csv: ", counted(nrow(table), "row"))), "</a></p>")
  left <- nrow(table) - rows
  c(html_table(utils::head(table, rows), titles), if (left > 0) html_tag("p", paste("The first", rows, "rows;", format_count(left), "more in the file.")), link)
}

html_picture <- function(path, name, said = NULL) {
  if (ending_of(path) == "html") {
    page <- paste(readLines(path, encoding = "UTF-8", warn = FALSE), collapse = "\n")
    page <- gsub("\"", "&quot;", gsub("&", "&amp;", page, fixed = TRUE), fixed = TRUE)
    frame <- paste0("<iframe title=\"", html_text(paste("Map", name)), "\" sandbox=\"allow-scripts\" srcdoc=\"", page, "\"></iframe>")
    return(paste0("<figure>", frame, "<p class=\"paper\">", html_text(name), ": a map to explore, on the page of HTML.</p></figure>"))
  }
  type <- c(png = "png", jpg = "jpeg", jpeg = "jpeg", svg = "svg+xml")[[ascii_lower(tools::file_ext(path))]]
  data <- jsonlite::base64_enc(core(core_read_bytes(path, -1), source = path))
  alternative <- html_text(said %||% paste("Drawing", name))
  paste0("<figure><img alt=\"", alternative, "\" src=\"data:image/", type, ";base64,", gsub("\n", "", data, fixed = TRUE), "\"></figure>")
}

# The workflow as a drawing, for screens and paper.
html_drawing <- function(run) {
  path <- tempfile(fileext = ".png")
  on.exit(unlink(path))
  tall <- max(5, 0.75 * max(graph_of_workflow(run$workflow, run)$places$column))
  quietly(save_map(draw_workflow(run) + ggplot2::labs(title = NULL), path, 10, tall, "in", 110))
  html_picture(path, "of the steps of the workflow", paste0("Drawing of the steps: ", paste(names(run$workflow$steps), collapse = ", "), "."))
}

report_style <- "
:root { color-scheme: light dark; --ground: #fbfaf7; --text: #1d2a30; --line: #c9d3d3; --accent: #1f6f78; --band: #eef3f2; }
@media (prefers-color-scheme: dark) { :root { --ground: #16242b; --text: #e4ecee; --line: #3b4d55; --accent: #7fc8b2; --band: #1e2f37; } }
body { margin: 0; background: var(--ground); color: var(--text); font: 16px/1.55 system-ui, sans-serif; }
main { max-width: 62rem; margin: 0 auto; padding: 2rem 1.25rem 4rem; }
h1 { font-size: 2rem; line-height: 1.2; margin: 0 0 .5rem; }
h2 { font-size: 1.15rem; margin: 2.25rem 0 .6rem; border-bottom: 2px solid var(--accent); padding-bottom: .2rem; }
.answer { font-size: 1.3rem; background: var(--band); border-left: .35rem solid var(--accent); padding: .8rem 1rem; margin: 1rem 0; }
.wide { overflow-x: auto; }
table { border-collapse: collapse; font-size: .92rem; font-variant-numeric: tabular-nums; }
th, td { text-align: left; padding: .3rem .9rem .3rem 0; border-bottom: 1px solid var(--line); vertical-align: top; }
td.number, th.number { text-align: right; }
th button { all: unset; cursor: pointer; font-weight: 600; }
th button:focus-visible, a:focus-visible { outline: 2px solid var(--accent); outline-offset: 2px; }
figure { margin: 0; } img { max-width: 100%; height: auto; background: #fff; }
iframe { width: 100%; aspect-ratio: 11 / 7.4; border: 1px solid var(--line); }
a { color: var(--accent); } footer { margin-top: 3rem; font-size: .85rem; opacity: .8; }
.paper { display: none; }
@media print {
  @page { margin: 15mm; }
  body { background: #fff; color: #000; font-size: 12px; } main { max-width: none; padding: 0; }
  h2 { break-after: avoid; } figure, tr, .answer { break-inside: avoid; } img { max-height: 220mm; }
  .wide { overflow: hidden; } table { font-size: .8rem; width: 100%; } th, td { padding-right: .5rem; } td { overflow-wrap: anywhere; }
  td.number, td:first-child { overflow-wrap: normal; }
  a[download], iframe { display: none; } .paper { display: block; }
}"

# Sorts a table by the column whose heading is pressed, and again the other way round.
report_script <- "
document.querySelectorAll('th button').forEach(function (button) {
  button.addEventListener('click', function () {
    var head = button.parentNode, table = head.closest('table'), body = table.tBodies[0], at = head.cellIndex;
    var down = head.getAttribute('aria-sort') === 'ascending';
    table.querySelectorAll('th').forEach(function (one) { one.removeAttribute('aria-sort'); });
    head.setAttribute('aria-sort', down ? 'descending' : 'ascending');
    var value = function (row) { var cell = row.cells[at]; return cell.dataset.value !== undefined ? parseFloat(cell.dataset.value) : cell.textContent; };
    Array.from(body.rows).sort(function (a, b) {
      var x = value(a), y = value(b);
      var order = typeof x === 'number' && typeof y === 'number' ? (isNaN(x) ? 1 : isNaN(y) ? -1 : x - y) : String(x).localeCompare(String(y));
      return down ? -order : order;
    }).forEach(function (row) { body.appendChild(row); });
  });
});"
