// An alarm that ends this process if a fit takes too long in compiled code, where R's
// own time limits do not reach. Armed in worker processes only; no alarm on Windows.

#include <Rcpp/Lightest>
#ifndef _WIN32
#include <csignal>
#include <sys/time.h>
#endif

// Seconds until the alarm; 0 takes it back.
// [[Rcpp::export]]
void set_alarm(double seconds) {
#ifndef _WIN32
  std::signal(SIGALRM, SIG_DFL);
  struct itimerval timer = {};
  timer.it_value.tv_sec = static_cast<long>(seconds);
  timer.it_value.tv_usec = static_cast<long>((seconds - static_cast<long>(seconds)) * 1e6);
  setitimer(ITIMER_REAL, &timer, nullptr);
#endif
}
