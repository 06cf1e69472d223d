#!/bin/sh
# The compiled code under the address and undefined-behaviour sanitizers of the compiler, then under
# valgrind, while tests run that reach all of it. What the sanitizers find ends the run; of valgrind's
# findings those count that name a file of src/.
set -eu
root=$(pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
copy() {
  rm -rf "$work/source"
  mkdir -p "$work/source"
  git ls-files | grep -E '^(DESCRIPTION|NAMESPACE|LICENSE|R/|src/|inst/|exec/)' |
    tar cf - -T - | tar xf - -C "$work/source"
}

install_with() { # flags, library
  copy
  mkdir -p "$2"
  printf 'PKG_CXXFLAGS = %s\nPKG_LIBS = %s\n' "$1" "$1" > "$work/source/src/Makevars"
  R CMD INSTALL --no-docs --no-test-load --library="$2" "$work/source" > "$work/log" 2>&1 ||
    { cat "$work/log"; exit 1; }
}

echo "check-native: sanitizers"
install_with "-O1 -g -fno-omit-frame-pointer -fsanitize=address,undefined -fno-sanitize-recover=undefined" \
  "$work/sanitized"
preload=$(gcc -print-file-name=libasan.so)
LD_PRELOAD="$preload" ASAN_OPTIONS=detect_leaks=0:abort_on_error=1 UBSAN_OPTIONS=print_stacktrace=1 \
  KILNWRIGHT_SOURCE="$root" R_LIBS="$work/sanitized:${R_LIBS:-}" Rscript tools/native-tests.R

if command -v valgrind > /dev/null; then
  echo "check-native: valgrind"
  install_with "-O1 -g" "$work/plain"
  KILNWRIGHT_SOURCE="$root" KILNWRIGHT_NATIVE_SHORT=yes R_LIBS="$work/plain:${R_LIBS:-}" R -d \
    "valgrind --error-exitcode=0 --log-file=$work/valgrind.log" --vanilla --quiet \
    -f tools/native-tests.R > "$work/out" 2>&1 || { cat "$work/out"; exit 1; }
  if grep -E "kilnwright|src/.*\.cpp" "$work/valgrind.log" > /dev/null; then
    cat "$work/valgrind.log"
    exit 1
  fi
  tail -3 "$work/valgrind.log"
else
  echo "check-native: no valgrind on this machine; that part was left out"
fi
echo "check-native: nothing was found"
