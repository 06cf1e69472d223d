# The look of all figures: legible at 1280x800 and in greyscale; groups differ by
# shape or line type as well as by colour.

# In ggplot2::aes() the name means the plotted data; this keeps code checks quiet
# without importing a package, which would slow loading.
.data <- NULL

# Okabe & Ito's palette for readers with any colour vision.
okabe_ito <- c(
  "#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000",
  "#999999"
)
line_types <- c("solid", "22", "42", "11", "4222", "1141", "solid", "22")
point_shapes <- c(16, 17, 15, 18, 3, 4, 8, 1)

#' The theme of Kilnwright's figures
#'
#' @param base_size Text size in points.
#' @param ... Nothing: a misspelt argument is refused, and the nearest one named.
#' @return A ggplot2 theme.
#' @section Errors:
#' `kw_error_argument` for an argument that it does not have.
#' @examples
#' ggplot2::ggplot(demo_pots(), ggplot2::aes(wall_mm, shrinkage_pct)) +
#'   ggplot2::geom_point() +
#'   theme_kilnwright()
#' @export
theme_kilnwright <- function(base_size = 14, ...) {
  no_more(...)
  # a tenth of the time that a figure takes
  name <- as.character(base_size)
  if (is.null(themes_made[[name]])) themes_made[[name]] <- new_theme(base_size)
  themes_made[[name]]
}

themes_made <- new.env(parent = emptyenv())

new_theme <- function(base_size) {
  ggplot2::theme_minimal(base_size = base_size) +
    ggplot2::theme(
      plot.title = ggplot2::element_text(face = "bold", size = ggplot2::rel(1.15)),
      plot.title.position = "plot", plot.caption.position = "plot",
      plot.subtitle = ggplot2::element_text(colour = "grey30", margin = ggplot2::margin(b = 10)),
      plot.caption = ggplot2::element_text(colour = "grey35", hjust = 0, size = ggplot2::rel(0.75)),
      panel.grid.minor = ggplot2::element_blank(),
      panel.grid.major = ggplot2::element_line(colour = "grey90"),
      axis.title = ggplot2::element_text(colour = "grey20"),
      legend.position = "top", legend.justification = "left",
      legend.key.width = ggplot2::unit(2.2, "lines"),
      strip.text = ggplot2::element_text(face = "bold", hjust = 0),
      plot.margin = ggplot2::margin(14, 18, 12, 14)
    )
}

metric_axis <- function(cmp, metric) {
  unit <- if (metric$unit == "outcome") paste0(", in units of ", brief_of(cmp)$outcome)
  paste0(metric$label, unit, " (", metric$direction, " is better)")
}

# Sentences of a caption, broken so that none is cut off.
wrapped_caption <- function(...) paste(strwrap(paste0(...), 125L), collapse = "\n")

# Subtitles are larger than captions.
wrapped_subtitle <- function(...) paste(strwrap(paste0(...), 95L), collapse = "\n")

# Saves a figure as a PNG of so many pixels, also where no display is.
save_png <- function(plot, file, width = 1280, height = 800) {
  write_whole(file, png_bytes(plot, width, height))
}

# A run that was broken off may have no setting with all its scores.
check_ranked <- function(cmp, metric, candidate = NULL) {
  table <- standings_rows(cmp, metric = metric$name)
  if (any(!is.na(table$mean) & (is.null(candidate) | table$candidate %in% candidate))) {
    return(invisible())
  }
  stop_kw("draw", paste0(
    "No setting", if (!is.null(candidate)) paste0(" of ", quoted(candidate)),
    " has all its scores, so there is nothing to draw."
  ),
  remedy = if (!is.null(cmp$stopped)) {
    "Let the run go on, with its journal or longer limits."
  } else {
    "See failures()."
  }
  )
}

png_bytes <- function(plot, width, height) {
  device <- if (requireNamespace("ragg", quietly = TRUE)) {
    ragg::agg_png
  } else {
    function(...) grDevices::png(..., type = "cairo")
  }
  draw <- function(path) {
    device(path, width = width, height = height, res = 110)
    on.exit(grDevices::dev.off())
    print(plot)
  }
  # a picture ends with a part called IEND and its checksum
  end <- as.raw(c(0x49, 0x45, 0x4e, 0x44, 0xae, 0x42, 0x60, 0x82))
  bytes_made_by(draw, ".png", function(bytes) ends_with_bytes(bytes, end))
}

# For the data of lines: rows of what has more than one, since one point makes no line.
several_of <- function(...) {
  columns <- c(...)
  function(data) {
    group <- group_rows(frame_columns_of(data, columns), nrow(data))
    data[group %in% group[duplicated(group)], ]
  }
}
