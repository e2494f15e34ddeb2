# make demo      set up, install and tell the demo's story
# make test      set up, install and run all tests
# make bench     set up, install and run the benchmarks
# make lint      lintr, clang-format, and the core without a warning by two compilers
# make check     R CMD check, held against tools/check-notes.md
# make threads   the core's tests of several threads under ThreadSanitizer
# make windows   the core's tests, built for Windows and run under wine
# make fresh     demo and test on a Debian made for it, in which there is nothing but R (root; GOAL=demo, AS=user, LISTS=present)
# make docs      NAMESPACE, man/ and bindings from the sources
# make site      the documentation as pages, in .build/site
# make clean     remove what was built

CORES := $(shell nproc 2>/dev/null || echo 1)
SOURCES := DESCRIPTION NAMESPACE exec/civicatlas \
  $(wildcard R/*.R man/*.Rd src/*.cpp src/*.h src/Makevars src/kernel/*.h src/kernel/*/*.h src/kernel/*/*.cpp inst/* inst/*/*)

.PHONY: demo test bench lint check threads windows fresh docs site clean

demo: setup-demo
	@$(MAKE) -s .build/installed
	@exec/civicatlas demo demo-output
	@exec/civicatlas completions --install

test: setup-test
	@$(MAKE) -s .build/installed
	@Rscript tests/run.R

bench: setup-bench
	@$(MAKE) -s .build/installed
	@Rscript bench/run.R

lint: setup-lint
	@clang-format-14 --dry-run --Werror src/*.h src/kernel/*.h src/kernel/*/*.h src/kernel/*/*.cpp tests/kernel/*.cpp \
	  $(filter-out src/RcppExports.cpp,$(wildcard src/*.cpp))
	@Rscript -e 'found <- lintr::lint_package(); print(found); quit(status = length(found) > 0)'
	@tools/warnings.sh

check: setup-check
	@tools/check.sh

threads: setup-threads
	@tools/thread-tests.sh

windows: setup-windows
	@tools/windows-tests.sh

fresh:
	@tools/fresh-machine.sh

docs: setup-docs
	@tools/document.sh

site: setup-site
	@$(MAKE) -s .build/installed
	@tools/site.sh

clean:
	rm -rf .build demo-output src/*.o src/*.so src/kernel/*/*.o

setup-%:
	@tools/setup.sh $*

.build/installed: $(SOURCES)
	@tools/check-compiler.sh
	@echo "installing civicatlas (the first time its core is compiled: about three minutes)"
	@R_MAKEVARS_USER=$(CURDIR)/tools/Makevars.dependencies MAKEFLAGS=-j$(CORES) R CMD INSTALL --no-test-load . >.build/install.log 2>&1 || \
	  { tail -n 40 .build/install.log; exit 1; }
	@tools/link-tool.sh
	@touch $@
