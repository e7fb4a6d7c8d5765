# The same question as in analysis.py, asked in R: which sherds were fired in the same kiln?
#
# Reads sherds.csv beside this file, and writes into the folder given (default: results-r): scores.csv (a row a sherd),
# explained.csv and sherds.png (the figure).

library(sherdstats)

told <- commandArgs(trailingOnly = FALSE)
here <- dirname(sub("^--file=", "", grep("^--file=", told, value = TRUE)[1]))
results <- c(commandArgs(trailingOnly = TRUE), "results-r")[1]
dir.create(results, showWarnings = FALSE, recursive = TRUE)

sherds <- read.csv(file.path(here, "sherds.csv"))
oxides <- as.matrix(sherds[vapply(sherds, is.numeric, TRUE)])
found <- principal_components(centred_log_ratio(oxides))
scores <- found$scores[, 1:3]

tree <- hclust(dist(scores), method = "ward.D2")
trials <- lapply(2:8, function(count) cutree(tree, count))
quality <- vapply(trials, function(groups) mean_silhouette(scores, groups), 0)
groups <- trials[[which.max(quality)]]
groups <- match(groups, unique(groups))

# All digits: what is compared is not to be rounded.
exactly <- function(values) formatC(values, digits = 17, format = "g")
table <- data.frame(
  sherd = sherds$sherd, trench = sherds$trench, glaze = sherds$glaze, kiln = paste0("K", groups),
  PC1 = exactly(scores[, 1]), PC2 = exactly(scores[, 2]), PC3 = exactly(scores[, 3])
)
write.csv(table, file.path(results, "scores.csv"), row.names = FALSE, quote = FALSE)
write.csv(
  data.frame(component = 1:3, share = exactly(found$explained[1:3])),
  file.path(results, "explained.csv"), row.names = FALSE, quote = FALSE
)

png(file.path(results, "sherds.png"), width = 1080, height = 720, res = 110)
colours <- c("#0072B2", "#D55E00", "#009E73", "#AA4499", "#332288", "#882255", "#44AA99", "#999933")
marks <- c(16, 15, 17, 18, 8, 4, 3, 1)
par(mar = c(4, 4, 3, 8), las = 1)
plot(scores[, 1], scores[, 2],
  col = colours[groups], pch = marks[groups], bty = "l",
  xlab = sprintf("component 1 (%.0f%% of the variance)", 100 * found$explained[1]),
  ylab = sprintf("component 2 (%.0f%%)", 100 * found$explained[2]),
  main = "Glazed sherds by glaze chemistry (centred log-ratios), in R"
)
kilns <- sort(unique(groups))
legend("topleft",
  legend = sprintf("K%d (%d)", kilns, tabulate(groups)), col = colours[kilns], pch = marks[kilns],
  bty = "n", title = "kiln (sherds)", inset = c(1.02, 0), xpd = TRUE
)
invisible(dev.off())
cat(nrow(sherds), "sherds, most likely of", max(groups), "kilns\n")
