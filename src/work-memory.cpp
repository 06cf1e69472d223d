// Gives memory that was freed in small pieces back to the system, where the C library can.

#include <Rcpp/Lightest>
#if defined(__GLIBC__)
#include <malloc.h>
#endif

// [[Rcpp::export]]
void return_memory() {
#if defined(__GLIBC__)
  malloc_trim(0);
#endif
}
