# The other side of a call into a snapshot: reads what is asked, calls it, and answers, until nobody asks any more. Run
# by the snapshot's own Rscript, with `base` alone: elsewhere.R WIRE IN OUT.
local({
  words <- commandArgs(trailingOnly = TRUE)
  wire <- new.env(parent = baseenv())
  sys.source(words[[1L]], wire, keep.source = FALSE)
  asked_from <- file(paste0("/dev/fd/", words[[2L]]), "rb", raw = TRUE)
  answers_to <- file(paste0("/dev/fd/", words[[3L]]), "wb", raw = TRUE)
  options(warn = 1L, keep.source = FALSE)
  sourced <- list() # files whose functions were asked for, each run once
  known <- new.env() # functions that were

  called <- function(name) {
    if (is.null(known[[name]])) known[[name]] <- found(name)
    known[[name]]
  }

  found <- function(name) {
    at <- regexpr(":[^:]*$", name)
    module <- substr(name, 1L, at - 1L)
    what <- substring(name, at + 1L)
    if (!grepl("\\.[rR]$", module)) return(getExportedValue(module, what))
    if (is.null(sourced[[module]])) {
      here <- new.env(parent = globalenv())
      sys.source(module, here)
      sourced[[module]] <<- here
    }
    get(what, sourced[[module]], mode = "function")
  }

  answer <- function(error = NULL, value = NULL) {
    parts <- wire$new_parts()
    text <- if (is.null(error)) {
      paste0('{"value":', wire$encoded(value, parts, "what it gives"), "}")
    } else {
      paste0('{"error":', wire$encoded(error, parts, ""), "}")
    }
    wire$send_message(answers_to, text, parts)
  }

  # The calls between this file and what failed, the innermost last.
  trace_of <- function(calls) {
    begin <- max(c(0L, which(vapply(calls, function(one) identical(one[[1L]], quote(do.call)), NA))))
    kept <- calls[seq_along(calls) > begin + 1L]
    own <- c(".handleSimpleError", "h", "stop", "(function (error) ", "function (error) ")
    kept <- kept[!vapply(kept, function(one) deparse(one[[1L]])[[1L]] %in% own, NA)]
    paste(vapply(kept, function(one) paste("in", substr(deparse(one)[[1L]], 1L, 200L)), ""), collapse = "\n")
  }

  failed <- function(error, calls = list()) {
    type <- setdiff(class(error), c("simpleError", "condition"))[[1L]]
    answer(error = list(type = type, message = conditionMessage(error), said = trace_of(calls)))
  }

  answer_to <- function(asked) {
    calls <- list()
    tryCatch(
      {
        head <- wire$value_of(asked)
        args <- lapply(head$args, wire$decoded, asked$parts) # each by itself: they are no vector
        if (length(head$named)) args <- c(args, wire$decoded(head$named, asked$parts))
        target <- called(head$call)
        result <- withCallingHandlers(
          do.call(target, args, quote = TRUE),
          error = function(error) calls <<- sys.calls()
        )
        answer(value = result)
      },
      interrupt = function(stop) quit("no", 130L),
      error = function(error) failed(error, calls)
    )
  }

  answer_hello <- function() {
    wire$send_message(answers_to, '{"has":[]}', wire$new_parts())
  }

  answer_hello()
  repeat {
    asked <- wire$receive_message(asked_from)
    if (is.null(asked)) break
    answer_to(asked)
    flush(stdout())
  }
})
