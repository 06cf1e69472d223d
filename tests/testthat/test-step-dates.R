test_that("dates become parts, before 1970 and with time zones too", {
  days <- as.Date(c("1960-02-29", "2031-12-31", NA))
  out <- prepared(
    list(pre_dates(parts = c("elapsed", "year", "month", "weekday", "day_of_year"),
      cyclic = FALSE)),
    data.frame(d = days, z = 1)
  )$columns
  expect_identical(out$d_year, c(1960, 2031, NA))
  expect_identical(out$d_weekday, c(1, 3, NA))
  expect_identical(out$d_day_of_year, c(60, 365, NA))
  expect_identical(out$d_elapsed[2], as.numeric(days[2] - days[1]))
  cyclic <- prepared(list(pre_dates(parts = "month")), data.frame(d = days, z = 1))$columns
  expect_equal(cyclic$d_month_sin[1:2], sin(2 * pi * c(2, 12) / 12))
  times <- as.POSIXct(c("2031-05-17 23:30:00", "2031-05-18 01:00:00"), tz = "Asia/Tokyo")
  hours <- prepared(
    list(pre_dates(parts = c("hour", "day"), cyclic = FALSE)),
    data.frame(d = times[c(1, 2, 2)], z = 1)
  )$columns
  expect_identical(hours$d_hour, c(23.5, 1, 1))
  expect_identical(hours$d_day, c(17, 18, 18))
})
