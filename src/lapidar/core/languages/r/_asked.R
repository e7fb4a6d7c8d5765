# What R says of itself, a line each: a mark, a name, and values with each of their bytes encoded (RFC 3986). By `base`
# alone: what else is there, and whether it loads, is no matter here.
local({
  byte_for_byte <- function(text) if (nzchar(text)) paste0("%", as.character(charToRaw(text)), collapse = "") else ""
  encoded <- function(texts) vapply(enc2utf8(as.character(texts)), byte_for_byte, "", USE.NAMES = FALSE)
  say <- function(name, values) cat("lapidar-probe ", name, " ", paste(encoded(values), collapse = " "), "\n", sep = "")
  say("version", paste(R.version$major, R.version$minor, sep = "."))
  say("build", paste0("r", R.version$`svn rev`, if (nzchar(R.version$status)) paste0(" ", R.version$status)))
  say("platform", R.version$platform)
  say("arch", R.version$arch)
  say("home", R.home())
  say("share", R.home("share"))
  say("include", R.home("include"))
  say("doc", R.home("doc"))
  say("own", .Library)
  say("libraries", .libPaths())
  say("loader", Sys.getenv("LD_LIBRARY_PATH"))
  say("end", "")
})
