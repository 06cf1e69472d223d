// A process that serves ends when it is asked to (SIGTERM), after the answer that it is giving.
#include <Rcpp/Lightest>
#include <csignal>

static volatile std::sig_atomic_t terminate_asked = 0;

static void note_terminate(int) { terminate_asked = 1; }

// From now on SIGTERM is noted instead of ending the process at once.
// [[Rcpp::export]]
void note_terminations() {
  terminate_asked = 0;
  std::signal(SIGTERM, note_terminate);
}

// [[Rcpp::export]]
bool was_terminated() { return terminate_asked != 0; }
