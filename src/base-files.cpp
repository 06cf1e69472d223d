#include <Rcpp/Lightest>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <sys/stat.h>
#ifdef _WIN32
#include <io.h>
#else
#include <fcntl.h>
#include <poll.h>
#include <unistd.h>
#endif

// Writes bytes and waits until the disk has them: R's own connections do not say when the disk
// is full. Returns "" or what went wrong.
// [[Rcpp::export(rng = false)]]
std::string write_bytes(const std::string& path, const Rcpp::RawVector& bytes) {
  std::FILE* file = std::fopen(path.c_str(), "wb");
  if (file == nullptr) return std::strerror(errno);
  const std::size_t n = static_cast<std::size_t>(bytes.size());
  bool fine = std::fwrite(bytes.begin(), 1, n, file) == n && std::fflush(file) == 0;
#ifdef _WIN32
  fine = fine && _commit(_fileno(file)) == 0;
#else
  // some file systems cannot wait, which is no fault of the bytes
  fine = fine && (fsync(fileno(file)) == 0 || errno == EINVAL || errno == ENOSYS);
#endif
  const int first = fine ? 0 : errno;
  const bool closed = std::fclose(file) == 0;
  if (fine && closed) return "";
  return std::strerror(fine ? errno : first);
}

// Is this a file like others: no folder, device or pipe?
// [[Rcpp::export(rng = false)]]
bool is_ordinary_file(const std::string& path) {
  struct stat about;
  return stat(path.c_str(), &about) == 0 && (about.st_mode & S_IFMT) == S_IFREG;
}

// What has become of the standard output: "" if all was written, "gone" if its reader has left,
// "failed" if it could not be written.
// [[Rcpp::export(rng = false)]]
std::string output_state() {
  const bool failed = std::fflush(stdout) != 0 || std::ferror(stdout) != 0;
#ifndef _WIN32
  struct pollfd reader = {STDOUT_FILENO, POLLOUT, 0};
  if (poll(&reader, 1, 0) == 1 && (reader.revents & POLLERR)) return "gone";
#endif
  return failed ? "failed" : "";
}
