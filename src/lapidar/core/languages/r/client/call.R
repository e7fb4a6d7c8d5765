# Calls into another snapshot, from R. The program lapidar opens the snapshot and hands on what is said: what is asked
# goes to it by a pipe with a name, what is answered comes as its output.

lapidar_elsewhere <- function(what, language = "", program = Sys.getenv("LAPIDAR_PROGRAM", "lapidar")) {
  path <- tempfile("asked-")
  words <- c(program, "call", "--in", path.expand(what), "--through", path, if (nzchar(language)) c("--language", language))
  answers <- pipe(paste(shQuote(words), collapse = " "), "rb")
  first <- receive_message(answers)
  there <- structure(new.env(parent = emptyenv()), class = "lapidar_elsewhere")
  there$what <- what
  there$answers <- answers
  refused <- if (!is.null(first)) value_of(first)$error$message
  if (is.null(first) || !is.null(refused)) {
    close(there)
    stop(if (is.null(first)) paste(program, "cannot be started; is it on PATH?") else refused, call. = FALSE)
  }
  there$asks <- file(path, "wb", raw = TRUE)
  there
}

lapidar_call <- function(there, what, ..., .timeout = NULL) {
  if (is.character(there)) {
    there <- lapidar_elsewhere(there)
    on.exit(close(there))
  }
  if (is.null(there$asks)) stop("the calls to ", there$what, " are closed")
  given <- list(...)
  names <- if (is.null(names(given))) rep("", length(given)) else names(given)
  parts <- new_parts()
  args <- encoded(unname(given[!nzchar(names)]), parts, "argument")
  named <- encoded(c(list(), given[nzchar(names)]), parts, "argument")
  if (named == "[]") named <- "{}"
  timeout <- if (is.null(.timeout)) "" else paste0(',"timeout":', format_number(as.numeric(.timeout)))
  whole <- FALSE # a message of which only a part went, or came, leaves nothing to go on with
  on.exit(if (!whole) close(there, at_once = TRUE), add = TRUE)
  send_message(there$asks, paste0('{"call":', quoted(what), ',"args":', args, ',"named":', named, timeout, "}"), parts)
  answer <- receive_message(there$answers)
  if (is.null(answer)) stop("lapidar ended in the middle of ", what)
  whole <- TRUE
  head <- value_of(answer)
  failed <- head$error
  if (is.null(failed)) return(decoded(head$value, answer$parts))
  type <- if (failed$type == "CalledFailed") "" else paste0(failed$type, ": ")
  said <- if (nzchar(failed$said)) paste0("\n", failed$said) else ""
  stop(structure(
    class = c("CalledFailed", "error", "condition"),
    list(message = paste0(what, " failed there: ", type, failed$message, said), call = NULL, type = failed$type, said = failed$said)
  ))
}

close.lapidar_elsewhere <- function(con, at_once = FALSE, ...) {
  asks <- con$asks
  answers <- con$answers
  con$asks <- con$answers <- NULL
  if (!is.null(asks)) {
    # Said, since what was started meanwhile has the pipe open too, and would keep it so.
    if (!at_once) try(send_message(asks, "{}", new_parts()), silent = TRUE)
    try(close(asks), silent = TRUE)
  }
  if (!is.null(answers)) try(close(answers), silent = TRUE)
  invisible()
}

print.lapidar_elsewhere <- function(x, ...) {
  cat("calls to", x$what, if (is.null(x$asks)) "(closed)", "\n")
  invisible(x)
}
