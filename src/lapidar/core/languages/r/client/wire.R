# How values travel between two snapshots (docs/elsewhere.md), R's side: JSON for what is small, typed bytes for columns
# and arrays; never a form that runs code. By `base` alone, R 3.6 on. The other languages' side is elsewhere/wire.py.

# ---- messages

not_sent <- function(...) stop(structure(class = c("NotSent", "error", "condition"), list(message = paste0(...), call = NULL)))

# What a message needs besides its value: the parts, gathered as they come.
new_parts <- function() {
  parts <- list()
  list(add = function(bytes) { parts[[length(parts) + 1L]] <<- bytes; length(parts) - 1L }, all = function() parts)
}

most_bytes <- 2^31 - 1 # that R reads or writes in one call
piece_bytes <- 2^26 # that more is cut into

# `made` already is as JSON has it, but for what it has for values: `encoded()` of each.
send_message <- function(stream, made, parts) {
  sizes <- vapply(parts$all(), length, 0)
  head <- charToRaw(paste0('{"parts":[', paste(format_whole(sizes), collapse = ","), '],"value":', made, "}"))
  writeBin(length(head), stream, size = 4L, endian = "big")
  for (bytes in c(list(head), parts$all())) {
    at <- 0
    while (at < length(bytes)) {
      size <- if (length(bytes) <= most_bytes) length(bytes) else min(piece_bytes, length(bytes) - at)
      writeBin(if (size == length(bytes)) bytes else bytes[at + seq_len(size)], stream)
      at <- at + size
    }
  }
  flush(stream)
}

# A message: its head as text, and the parts; NULL where nobody sends any more. What it says is read by `value_of`: there
# may be something that R cannot hold, and then all of it was received, and that can be said.
receive_message <- function(stream) {
  size <- readBin(stream, "integer", 1L, size = 4L, endian = "big")
  if (!length(size)) return(NULL)
  head <- rawToChar(exactly(stream, size))
  if (startsWith(head, '{"parts":[]')) return(list(head = head, parts = list()))
  sizes <- sub("^[{]\"parts\":\\[([0-9,]*)\\].*", "\\1", head, useBytes = TRUE)
  sizes <- as.numeric(strsplit(sizes, ",", fixed = TRUE)[[1L]])
  list(head = head, parts = lapply(sizes, function(size) exactly(stream, size)))
}

value_of <- function(message) parse_json(message$head)$value

exactly <- function(stream, size) {
  pieces <- list()
  while (size > 0) {
    piece <- readBin(stream, "raw", min(size, most_bytes))
    if (!length(piece)) stop("the other side ended in the middle of a message")
    pieces[[length(pieces) + 1L]] <- piece
    size <- size - length(piece)
  }
  if (length(pieces) == 1L) pieces[[1L]] else as.raw(unlist(pieces))
}

# ---- JSON (RFC 8259)

token_pattern <- '"[^"\\\\]*+(?:\\\\.[^"\\\\]*+)*+"|[-0-9][-+.eE0-9]*+|true|false|null|[][{}]'

parse_json <- function(text) {
  Encoding(text) <- "bytes"
  at <- gregexpr(token_pattern, text, perl = TRUE, useBytes = TRUE)[[1L]]
  tokens <- substring(text, at, at + attr(at, "match.length") - 1L)
  kinds <- substr(tokens, 1L, 1L)
  ready <- scalars(tokens, kinds)
  at <- 0L
  value <- function() {
    at <<- at + 1L
    switch(kinds[[at]], "{" = object(), "[" = array_of(), ready[[at]])
  }
  array_of <- function() {
    found <- list()
    while (kinds[[at + 1L]] != "]") found[length(found) + 1L] <- list(value())
    at <<- at + 1L
    found
  }
  object <- function() {
    found <- list()
    names <- character()
    while (kinds[[at + 1L]] != "}") {
      at <<- at + 1L
      names[length(names) + 1L] <- ready[[at]]
      found[length(found) + 1L] <- list(value())
    }
    at <<- at + 1L
    structure(found, names = names)
  }
  value()
}

# What each token that is no bracket stands for, all of a kind at once.
scalars <- function(tokens, kinds) {
  ready <- vector("list", length(tokens))
  texts <- kinds == "\""
  if (any(texts)) ready[texts] <- unquoted(tokens[texts])
  logicals <- kinds == "t" | kinds == "f"
  if (any(logicals)) ready[logicals] <- kinds[logicals] == "t"
  numbers <- !(texts | logicals | kinds %in% c("n", "{", "}", "[", "]"))
  if (any(numbers)) {
    made <- as.numeric(tokens[numbers])
    whole <- abs(made) <= .Machine$integer.max & !grepl("[.eE]", tokens[numbers])
    ready[numbers] <- made
    ready[numbers][whole] <- as.integer(made[whole])
  }
  ready
}

unquoted <- function(tokens) {
  texts <- substring(tokens, 2L, nchar(tokens, "bytes") - 1L)
  escaped <- grepl("\\", texts, fixed = TRUE)
  if (any(escaped)) texts[escaped] <- vapply(texts[escaped], without_escapes, "")
  Encoding(texts) <- "UTF-8"
  if (!all(validUTF8(texts))) stop("a text came that is no Unicode, which R cannot hold")
  texts
}

without_escapes <- function(text) {
  found <- gregexpr("\\\\(u[0-9a-fA-F]{4}|.)", text, perl = TRUE, useBytes = TRUE)
  regmatches(text, found) <- lapply(regmatches(text, found), function(all) vapply(all, unescaped, "", USE.NAMES = FALSE))
  text
}

unescaped <- function(escape) {
  kind <- substr(escape, 2L, 2L)
  if (kind != "u") return(switch(kind, n = "\n", t = "\t", r = "\r", b = "\b", f = "\f", kind))
  code <- strtoi(substr(escape, 3L, 6L), 16L)
  if (code == 0L) stop("a text came with a zero byte in it, which R cannot hold")
  made <- intToUtf8(code)
  Encoding(made) <- "bytes"
  made
}

escapes <- c("\\" = "\\\\", '"' = '\\"', "\n" = "\\n", "\t" = "\\t", "\r" = "\\r", "\b" = "\\b", "\f" = "\\f")

quoted <- function(texts) {
  if (!length(texts)) return(character())
  texts <- utf8(texts)
  odd <- grepl('[\\\\"[:cntrl:]]', texts)
  for (character in names(escapes)) {
    texts[odd] <- gsub(character, escapes[[character]], texts[odd], fixed = TRUE)
  }
  for (code in if (any(odd)) setdiff(c(1:31, 127L), utf8ToInt("\n\t\r\b\f"))) {
    texts[odd] <- gsub(intToUtf8(code), sprintf("\\u%04x", code), texts[odd], fixed = TRUE)
  }
  paste0('"', texts, '"')
}

# What has no mark is UTF-8 where the session's texts are, and under LC_ALL=C, where R would write out its bytes.
utf8 <- function(texts) {
  plain <- Encoding(texts) == "unknown"
  if (l10n_info()[["UTF-8"]] || identical(Sys.getlocale("LC_CTYPE"), "C")) {
    if (!all(validUTF8(texts[plain]))) not_sent("a text is no Unicode: iconv() it")
    Encoding(texts[plain]) <- "UTF-8"
  }
  made <- enc2utf8(texts)
  if (any(Encoding(texts) == "bytes") || !all(validUTF8(made))) not_sent("a text is no Unicode: iconv() it")
  made
}

format_whole <- function(numbers) sprintf("%.0f", numbers)

# Numbers that read back as the same bits; as whole numbers only what R has as such.
format_number <- function(number) {
  if (is.integer(number)) return(format_whole(number))
  if (!is.finite(number)) {
    name <- if (is.nan(number)) "nan" else if (number > 0) "inf" else "-inf"
    return(paste0('{"$":"float","v":"', name, '"}'))
  }
  made <- sprintf("%.15g", number)
  if (as.numeric(made) != number) made <- sprintf("%.17g", number)
  if (grepl("[.e]", made)) made else paste0(made, ".0")
}

# ---- out

# A value as JSON has it; bytes go into the parts. `where` is what it is called, for whoever has to change it.
encoded <- function(x, parts, where) {
  if (is.null(x)) return("null")
  if (inherits(x, "data.frame")) return(encoded_frame(x, parts, where))
  if (inherits(x, "POSIXlt")) x <- as.POSIXct(x)
  if (inherits(x, c("Date", "POSIXct")) && length(x) == 1L) return(encoded_moment(x))
  if (inherits(x, c("factor", "Date", "POSIXct", "difftime", "integer64"))) {
    return(paste0('{"$":"column","of":', column("null", x, parts, where), "}"))
  }
  alone <- length(x) == 1L && !inherits(x, "AsIs")
  if (inherits(x, "AsIs")) x <- unclass_as_is(x)
  if (is.object(x) || !(is.atomic(x) || is.list(x)) || is.complex(x)) not_of_a_kind(x, where)
  if (is.raw(x)) return(paste0('{"$":"bytes","part":', parts$add(as.vector(x)), "}"))
  if (is.list(x)) return(encoded_list(x, parts, where))
  if (!is.null(dim(x))) return(encoded_array(x, parts, where))
  if (!is.null(names(x))) return(encoded_list(as.list(x), parts, where))
  if (alone) return(encoded_scalar(x))
  if (length(x) && !is.character(x) && (is.double(x) || !anyNA(x))) return(array_part(x, length(x), parts))
  paste0("[", paste(vapply(x, encoded_scalar, "", USE.NAMES = FALSE), collapse = ","), "]")
}

unclass_as_is <- function(x) {
  class(x) <- setdiff(class(x), "AsIs")
  x
}

not_of_a_kind <- function(x, where) {
  not_sent(where, " is a ", class(x)[[1L]], ", which does not travel: send vectors, lists with names, matrices, data frames, ",
           "or a path to a file")
}

encoded_scalar <- function(x) {
  if (is.na(x) && !is.nan(x)) "null" else if (is.character(x)) quoted(x) else if (is.logical(x)) tolower(x) else format_number(x)
}

encoded_moment <- function(x) {
  if (is.na(x)) return("null")
  if (inherits(x, "Date")) return(paste0('{"$":"date","v":"', format(x, "%Y-%m-%d"), '"}'))
  whole <- floor(unclass(x))
  micro <- round((as.numeric(x) - whole) * 1e6)
  when <- format(structure(whole + micro %/% 1e6, class = c("POSIXct", "POSIXt")), "%Y-%m-%dT%H:%M:%S", tz = "UTC")
  sprintf('{"$":"time","v":"%s.%06.0f+00:00"}', when, micro %% 1e6)
}

encoded_list <- function(x, parts, where) {
  names <- names(x)
  if (is.null(names)) {
    made <- lapply(seq_along(x), function(at) encoded(x[[at]], parts, paste0(where, "[[", at, "]]")))
    return(paste0("[", paste(made, collapse = ","), "]"))
  }
  if (anyNA(names) || any(!nzchar(names)) || anyDuplicated(names)) {
    not_sent(where, " has names of which one is missing or twice there: give each one of its own, or unname() it")
  }
  made <- lapply(names, function(name) encoded(x[[name]], parts, paste0(where, "$", name)))
  if (!length(x)) return("{}")
  made <- paste0("{", paste(quoted(names), made, sep = ":", collapse = ","), "}")
  if ("$" %in% names) paste0('{"$":"dict","v":', made, "}") else made
}

encoded_array <- function(x, parts, where) {
  if (!is.null(dimnames(x))) {
    if (length(dim(x)) != 2L) not_sent(where, " has names of its dimensions: set dimnames() to NULL")
    return(encoded_frame(as.data.frame(x, stringsAsFactors = FALSE), parts, where))
  }
  if (is.character(x) || (!is.double(x) && anyNA(x))) {
    not_sent(where, " is a matrix with ", if (is.character(x)) "texts" else "missing values", ": send a data frame")
  }
  array_part(as.vector(if (length(dim(x)) > 1L) aperm(x) else x), dim(x), parts)
}

array_part <- function(x, shape, parts) {
  kind <- if (is.double(x)) "<f8" else if (is.integer(x)) "<i4" else "|b1"
  bytes <- if (is.logical(x)) as.raw(x) else writeBin(as.vector(x), raw(), endian = "little")
  sprintf('{"$":"array","dtype":"%s","shape":[%s],"part":%d}', kind, paste(shape, collapse = ","), parts$add(bytes))
}

encoded_frame <- function(x, parts, where) {
  names <- quoted(names(x))
  if (anyDuplicated(names)) not_sent(where, " has two columns of one name")
  made <- vapply(seq_along(names), function(at) {
    column(names[[at]], x[[at]], parts, paste0(where, "$", names(x)[[at]]))
  }, "")
  index <- if (.row_names_info(x) > 0L) paste0(',"index":[', column("null", attr(x, "row.names"), parts, where), "]")
  rows <- .row_names_info(x, 2L)
  paste0('{"$":"frame","rows":', rows, ',"columns":[', paste(made, collapse = ","), "]", index, "}")
}

# A column: its kind, its bytes, and where something is missing.
column <- function(name, x, parts, where) {
  if (inherits(x, "POSIXlt")) x <- as.POSIXct(x)
  if (inherits(x, "AsIs")) x <- unclass_as_is(x)
  begin <- paste0('{"name":', name, ',"rows":', NROW(x), ',"kind":')
  part <- function(kind, bytes, ...) paste0(begin, '"', kind, '","part":', parts$add(bytes), ..., "}")
  missing <- function() if (anyNA(x)) paste0(',"missing":', parts$add(bits(is.na(x))))
  if (!is.null(dim(x))) not_sent(where, " is a column of several columns: give each one of its own")
  if (is.factor(x)) {
    if (anyNA(levels(x))) not_sent(where, " has a level that is NA")
    codes <- as.integer(x) - 1L
    codes[is.na(codes)] <- -1L
    levels <- paste(quoted(levels(x)), collapse = ",")
    return(part("category", writeBin(codes, raw(), endian = "little"), ',"levels":[', levels, '],"ordered":', tolower(is.ordered(x))))
  }
  if (inherits(x, "Date")) {
    days <- as.integer(floor(as.numeric(x)))
    days[is.na(days)] <- 0L
    return(part("date", writeBin(days, raw(), endian = "little"), missing()))
  }
  if (inherits(x, "POSIXct")) {
    zone <- c(attr(x, "tzone"), "")[[1L]]
    if (!nzchar(zone)) zone <- local_zone()
    return(moments("time", as.numeric(x), parts, part, paste0(',"zone":', quoted(zone))))
  }
  if (inherits(x, "difftime")) {
    seconds <- as.numeric(x) * c(secs = 1, mins = 60, hours = 3600, days = 86400, weeks = 604800)[[attr(x, "units")]]
    return(moments("duration", seconds, parts, part, ""))
  }
  if (inherits(x, "integer64")) { # of the package bit64: the eight bytes themselves
    bytes <- writeBin(as.vector(unclass(x)), raw(), endian = "little")
    gone <- rowSums(matrix(bytes, ncol = 8L, byrow = TRUE) == matrix(as.raw(c(0, 0, 0, 0, 0, 0, 0, 128)), length(x), 8L, byrow = TRUE)) == 8
    return(part("int", bytes, if (any(gone)) paste0(',"missing":', parts$add(bits(gone)))))
  }
  if (is.object(x)) not_of_a_kind(x, where)
  if (is.logical(x)) {
    gone <- missing()
    return(part("bool", as.raw(ifelse(is.na(x), FALSE, x)), gone))
  }
  if (is.integer(x)) {
    gone <- missing()
    x[is.na(x)] <- 0L
    return(part("int", words(x, -(x < 0L)), gone))
  }
  if (is.double(x)) return(part("float", writeBin(as.vector(x), raw(), endian = "little")))
  if (is.character(x)) {
    gone <- missing()
    x[is.na(x)] <- ""
    x <- utf8(x)
    bytes <- charToRaw(paste0(x, collapse = ""))
    return(part("text", bytes, ',"ends":', parts$add(whole_words(cumsum(as.numeric(nchar(x, "bytes"))))), gone))
  }
  if (!is.list(x)) not_of_a_kind(x, where)
  values <- vapply(seq_along(x), function(at) encoded(x[[at]], parts, paste0(where, "[[", at, "]]")), "")
  paste0(begin, '"list","values":[', paste(values, collapse = ","), "]}")
}

# Sys.timezone() asks a program of the host first, which may print.
local_zone <- function() {
  zone <- Sys.getenv("TZ")
  if (!nzchar(zone)) zone <- sub("^.*/zoneinfo/", "", Sys.readlink("/etc/localtime"))
  if (!nzchar(zone)) zone <- suppressWarnings(Sys.timezone())
  if (is.na(zone)) "UTC" else zone
}

moments <- function(kind, seconds, parts, part, more) {
  finest <- all(abs(seconds) < 2^53 / 1e6, na.rm = TRUE)
  numbers <- round(seconds * if (finest) 1e6 else 1e3)
  part(kind, whole_words(numbers), ',"unit":"', if (finest) "us" else "ms", '"', more)
}

bits <- function(flags) packBits(c(flags, logical(-length(flags) %% 8L)))

# Whole numbers in eight bytes each, of their lower and their upper half; NA is the lowest of all.
words <- function(low, high) writeBin(as.integer(rbind(low, high)), raw(), endian = "little")

whole_words <- function(numbers) {
  high <- floor(numbers / 2^32)
  low <- numbers - high * 2^32
  low[is.na(low)] <- 0
  lowest <- low == 2^31 # which is R's NA as a whole number, and has the bytes that are meant
  wraps <- low > 2^31
  low[wraps] <- low[wraps] - 2^32
  low[lowest] <- NA
  words(as.integer(low), as.integer(high))
}

# ---- back

decoded <- function(value, parts) {
  if (!is.list(value)) return(value)
  if (is.null(names(value))) return(simpler(lapply(value, decoded, parts)))
  kind <- if (length(value) && names(value)[[1L]] == "$") value[["$"]] else ""
  part <- function(name = "part") parts[[value[[name]] + 1L]]
  switch(kind,
    int = stop("a whole number beyond 2^53 came, ", value$v, ", which R cannot hold: send it as text"),
    float = c(nan = NaN, inf = Inf, `-inf` = -Inf)[[value$v]],
    time = moment(value$v), date = as.Date(value$v), path = value$v, bytes = part(),
    array = decoded_array(value, parts),
    column = labelled(column_of(value$of, parts), value$of, parts),
    frame = decoded_frame(value, parts),
    dict = lapply(value$v, decoded, parts),
    if (nzchar(kind)) stop("a value of an unknown kind came: ", kind) else lapply(value, decoded, parts)
  )
}

# A list of scalars of one kind is a vector; what is missing in it, NA.
simpler <- function(values) {
  there <- Filter(Negate(is.null), values)
  for (moments in c("Date", "POSIXct")) {
    if (length(there) && all(vapply(there, inherits, NA, moments))) {
      return(structure(unlist(lapply(values, function(x) if (is.null(x)) NA_real_ else as.numeric(x))),
                       class = class(there[[1L]]), tzone = attr(there[[1L]], "tzone")))
    }
  }
  plain <- length(there) && all(vapply(there, function(x) length(x) == 1L && is.atomic(x) && !is.object(x) && !is.raw(x), NA))
  kinds <- unique(vapply(there, function(x) if (is.integer(x)) "double" else typeof(x), ""))
  if (!plain || length(kinds) != 1L) return(values)
  unlist(lapply(values, function(x) if (is.null(x)) NA else x))
}

moment <- function(text) {
  parts <- regmatches(text, regexec("^([^.+Z]{19})([.][0-9]+)?(Z|[-+][0-9:]+)?$", text))[[1L]]
  made <- as.POSIXct(parts[[2L]], tz = "UTC", format = "%Y-%m-%dT%H:%M:%S")
  offset <- 0
  if (nchar(parts[[4L]]) > 1L) {
    pieces <- as.numeric(strsplit(substring(parts[[4L]], 2L), ":")[[1L]])
    offset <- sum(pieces * c(3600, 60, 1)[seq_along(pieces)]) * if (startsWith(parts[[4L]], "-")) -1 else 1
  }
  made - offset + if (nzchar(parts[[3L]])) as.numeric(paste0("0", parts[[3L]])) else 0
}

# Whole numbers of eight bytes: as R has them where they fit, else as numbers that are exact.
wide_numbers <- function(bytes, signed = TRUE) {
  halves <- readBin(bytes, "integer", length(bytes) %/% 4L, size = 4L, endian = "little")
  if (!length(halves)) return(integer())
  low <- halves[c(TRUE, FALSE)]
  high <- halves[c(FALSE, TRUE)]
  if (!anyNA(halves) && all(high == -(low < 0L))) return(low)
  numbers <- unsigned(high, signed) * 2^32 + unsigned(low)
  if (any(abs(numbers) > 2^53)) stop("whole numbers beyond 2^53 came, which R cannot hold: send them as text")
  numbers
}

unsigned <- function(halves, signed = FALSE) {
  halves <- as.numeric(halves)
  halves[is.na(halves)] <- -2^31
  if (!signed) {
    below <- halves < 0
    halves[below] <- halves[below] + 2^32
  }
  halves
}

numbers_of <- function(bytes, dtype) {
  size <- as.integer(substr(dtype, 3L, 3L))
  count <- length(bytes) %/% size
  switch(substr(dtype, 2L, 2L),
    f = readBin(bytes, "double", count, size = size, endian = "little"),
    b = bytes != as.raw(0L),
    if (size == 8L) {
      wide_numbers(bytes, substr(dtype, 2L, 2L) == "i")
    } else if (dtype == "<u4") {
      unsigned(readBin(bytes, "integer", count, size = 4L, endian = "little"))
    } else {
      readBin(bytes, "integer", count, size = size, signed = substr(dtype, 2L, 2L) == "i", endian = "little")
    }
  )
}

decoded_array <- function(value, parts) {
  numbers <- numbers_of(parts[[value$part + 1L]], value$dtype)
  shape <- unlist(value$shape)
  if (length(shape) < 2L) numbers else aperm(array(numbers, rev(shape)))
}

decoded_frame <- function(value, parts) {
  if (is.null(value$block)) {
    columns <- lapply(value$columns, column_of, parts)
    names <- vapply(value$columns, function(told) as.character(told$name), "")
  } else {
    numbers <- numbers_of(parts[[value$block$part + 1L]], value$block$dtype)
    columns <- lapply(seq_along(value$names) - 1, function(at) numbers[at * value$rows + seq_len(value$rows)])
    names <- vapply(value$names, as.character, "")
  }
  labels <- lapply(value$index, column_of, parts)
  made <- c(NA_integer_, -value$rows)
  if (length(labels) == 1L && is.character(labels[[1L]]) && !anyNA(labels[[1L]]) && !anyDuplicated(labels[[1L]])) {
    made <- labels[[1L]]
  } else if (length(labels)) {
    columns <- c(labels, columns)
    own <- vapply(value$index, function(told) if (is.null(told$name)) "index" else as.character(told$name), "")
    names <- make.unique(c(own, names))
  }
  structure(columns, names = names, row.names = made, class = "data.frame")
}

labelled <- function(values, told, parts) {
  if (length(told$index) == 1L) {
    labels <- column_of(told$index[[1L]], parts)
    names(values) <- as.character(labels)
  } else if (length(told$index)) {
    stop("a column came whose rows have labels of several levels: send it as a data frame")
  }
  values
}

column_of <- function(told, parts) {
  part <- function(name = "part") parts[[told[[name]] + 1L]]
  values <- switch(told$kind,
    float = readBin(part(), "double", told$rows, size = 8L, endian = "little"),
    int = wide_numbers(part()),
    bool = part() != as.raw(0L),
    text = cut_texts(part(), wide_numbers(part("ends"))),
    category = category(told, readBin(part(), "integer", told$rows, size = 4L, endian = "little"), parts),
    date = structure(as.numeric(readBin(part(), "integer", told$rows, size = 4L, endian = "little")), class = "Date"),
    time = structure(seconds_of(part(), told$unit), class = c("POSIXct", "POSIXt"), tzone = if (is.null(told$zone)) "UTC" else told$zone),
    duration = structure(seconds_of(part(), told$unit), class = "difftime", units = "secs"),
    list = lapply(told$values, decoded, parts),
    stop("a column of an unknown kind came: ", told$kind)
  )
  if (!is.null(told$missing)) values[as.logical(rawToBits(part("missing")))[seq_len(told$rows)]] <- NA
  values
}

cut_texts <- function(bytes, ends) {
  if (any(bytes == as.raw(0L))) stop("texts came with zero bytes in them, which R cannot hold")
  texts <- readChar(bytes, diff(c(0, ends)), useBytes = TRUE)
  Encoding(texts) <- "UTF-8"
  if (!all(validUTF8(texts))) stop("texts came that are no Unicode, which R cannot hold")
  texts
}

category <- function(told, codes, parts) {
  codes[codes < 0L] <- NA
  levels <- vapply(told$levels, function(level) as.character(decoded(level, parts)), "")
  structure(codes + 1L, levels = levels, class = c(if (told$ordered) "ordered", "factor"))
}

# Seconds of times since 1970, or of how long something took; R's numbers hold them to about a microsecond.
seconds_of <- function(bytes, unit) {
  halves <- readBin(bytes, "integer", length(bytes) %/% 4L, size = 4L, endian = "little")
  high <- halves[c(FALSE, TRUE)]
  low <- unsigned(halves[c(TRUE, FALSE)])
  per <- c(s = 1, ms = 1e3, us = 1e6, ns = 1e9)[[unit]]
  # By whole seconds and the rest, or a number of nanoseconds would lose its last digits before it is divided.
  whole <- floor((high * 2^32 + low) / per)
  rest <- ((high %% per) * (2^32 %% per) + low) %% per
  made <- whole + rest / per
  near <- (high * 2^32) / per + low / per
  off <- !is.na(high) & abs(made - near) >= 1
  made[off] <- near[off]
  made
}
