# make demo    set up, install and tell the demo's story
# make test    set up, install and run all tests
# make bench   set up, install and run the benchmarks
# make check   R CMD check          make lint    lintr and clang-format
# make docs    NAMESPACE, man/ and bindings from the sources
# make clean   remove what was built

CORES := $(shell nproc 2>/dev/null || echo 1)
SOURCES := DESCRIPTION NAMESPACE exec/civicatlas \
  $(wildcard R/*.R man/*.Rd src/*.cpp src/*.h src/Makevars src/kernel/*.h src/kernel/*/*.h src/kernel/*/*.cpp inst/*/*)

.PHONY: demo test bench check lint docs clean

demo: setup-demo
	@$(MAKE) -s .build/installed
	@exec/civicatlas demo demo-output

test: setup-test
	@$(MAKE) -s .build/installed
	@Rscript tests/run.R

bench: setup-bench
	@$(MAKE) -s .build/installed
	@Rscript bench/run.R

check: setup-check
	@mkdir -p .build && cd .build && R CMD build .. && R CMD check --no-manual civicatlas_*.tar.gz

lint: setup-lint
	@clang-format-14 --dry-run --Werror src/*.h src/kernel/*.h src/kernel/*/*.h src/kernel/*/*.cpp tests/kernel/*.cpp \
	  $(filter-out src/RcppExports.cpp,$(wildcard src/*.cpp))
	@Rscript -e 'found <- lintr::lint_package(); print(found); quit(status = length(found) > 0)'

docs: setup-docs
	@tools/document.sh

clean:
	rm -rf .build demo-output src/*.o src/*.so src/kernel/*/*.o

setup-%:
	@tools/setup.sh $*
	@Rscript -e 'quit(status = !nzchar(system.file(package = "civicatlas")))' || rm -f .build/installed

.build/installed: $(SOURCES)
	@mkdir -p .build
	@echo "installing civicatlas (the first time its core is compiled: about two minutes)"
	@MAKEFLAGS=-j$(CORES) R CMD INSTALL --no-test-load . >.build/install.log 2>&1 || { tail -n 40 .build/install.log; exit 1; }
	@tools/link-tool.sh
	@touch $@
