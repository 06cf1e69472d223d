# Everything that is done with this project, each by one command.

R := Rscript
DEMO_FOLDER := demo-results
stamp := build/installed
sources := DESCRIPTION NAMESPACE $(wildcard R/*.R src/*.cpp src/*.h src/Makevars inst/extdata/* inst/script/* inst/page/* exec/*)


.PHONY: demo test test-long test-faults check verify lint drift spell docs rooms site screenshots \
  bench coverage check-native release install setup-demo setup-test setup-develop setup-site clean

demo: setup-demo $(stamp)
	$(R) exec/kilnwright demo --out $(DEMO_FOLDER) --replace

test: setup-test $(stamp)
	$(R) tools/run-tests.R

# The same with all cases gone through and longer simulations.
test-long: setup-test $(stamp)
	KILNWRIGHT_TESTS=long $(R) tools/run-tests.R

# Breaks things on purpose, for some minutes: see docs/security.md.
test-faults: setup-test $(stamp)
	$(R) tests/faults/laboratory.R

install: setup-demo $(stamp)

$(stamp): $(sources)
	@mkdir -p build
	$(R) tools/install.R
	@touch $(stamp)

setup-demo setup-test setup-develop setup-site:
	@$(R) tools/setup.R $(subst setup-,,$@)

check: setup-develop
	@mkdir -p build
	rm -f build/kilnwright_*.tar.gz
	cd build && R CMD build .. && _R_CHECK_FORCE_SUGGESTS_=false R CMD check --no-manual kilnwright_*.tar.gz

# The tarball that is published, and what a registry would say of it.
release: setup-develop
	$(R) tools/release.R

# The compiled code under the address and undefined-behaviour sanitizers, and under valgrind.
check-native: setup-test
	sh tools/check-native.sh

lint: setup-develop
	$(R) tools/lint.R

# What must hold beside the tests before anything lands: style, help pages as the sources say,
# spelling, and the package's check (its tests are run by make test). It takes longer than they do.
verify: lint drift spell
	@mkdir -p build
	rm -f build/kilnwright_*.tar.gz
	cd build && R CMD build .. && \
	  _R_CHECK_FORCE_SUGGESTS_=false R CMD check --no-manual --no-tests --no-vignettes kilnwright_*.tar.gz
	@! grep -E "^\* checking .* (ERROR|WARNING)$$" build/kilnwright.Rcheck/00check.log

drift: setup-develop
	$(R) tools/docs.R
	git diff --exit-code --stat -- man NAMESPACE docs/reference.md R/RcppExports.R src/RcppExports.cpp

spell: setup-develop
	$(R) tools/spell.R

docs: setup-develop
	$(R) tools/docs.R

# Which room of the code calls which, written into ARCHITECTURE.md.
rooms:
	$(R) tools/rooms.R

# A folder of pages, site/index.html, that opens from disk.
site: setup-site $(stamp)
	$(R) tools/site.R

screenshots: setup-develop $(stamp)
	$(R) tools/screenshots.R

bench: setup-demo $(stamp)
	$(R) bench/run-all.R

coverage: setup-develop
	$(R) tools/coverage.R

clean:
	rm -rf build site $(DEMO_FOLDER) src/*.o src/*.so
