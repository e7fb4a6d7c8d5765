# Loads packages, tells each before it does, and what is mapped at the end: lines of JSON to a descriptor.
local({
  escaped <- function(text) {
    text <- gsub("\\", "\\\\", enc2utf8(text), fixed = TRUE)
    text <- gsub("\"", "\\\"", text, fixed = TRUE)
    paste0("\"", gsub("[\001-\037]", " ", text), "\"")
  }
  given <- paste(readLines(file("stdin"), warn = FALSE, encoding = "UTF-8"), collapse = " ")
  names <- regmatches(given, gregexpr("[A-Za-z][A-Za-z0-9.]*", given))[[1L]]
  to <- file(file.path("/dev/fd", commandArgs(TRUE)[1L]), open = "w")
  say <- function(...) {
    writeLines(paste0(...), to)
    flush(to)
  }
  failed <- character()
  for (name in names) {
    say("{\"at\": ", escaped(name), "}")
    why <- tryCatch({
      suppressWarnings(suppressMessages(loadNamespace(name)))
      NULL
    }, error = function(e) conditionMessage(e))
    if (!is.null(why)) failed <- c(failed, paste0(escaped(name), ": ", escaped(paste(why, collapse = " "))))
  }
  # Devices open what they draw with when they are opened.
  for (device in list(grDevices::png, grDevices::svg, grDevices::cairo_pdf)) {
    drawn <- tempfile()
    if (isTRUE(try({
      device(drawn)
      TRUE
    }, silent = TRUE))) {
      try(graphics::plot.new(), silent = TRUE)
      grDevices::dev.off()
    }
    unlink(drawn)
  }
  maps <- readLines("/proc/self/maps", warn = FALSE)
  files <- unique(sub("^[^/]*", "", maps[grepl("/", maps, fixed = TRUE)]))
  say(
    "{\"failed\": {", paste(failed, collapse = ", "), "}, \"mapped\": [",
    paste(vapply(files, escaped, ""), collapse = ", "), "], \"prefix\": ",
    escaped(dirname(dirname(normalizePath(R.home())))), "}"
  )
  close(to)
})
