# SPDX-License-Identifier: MIT
# The front doors. What is built, and how, stands in CMakeLists.txt.
BUILD ?= build
JOBS ?= $(shell nproc)
# Tests wait for the disk most of the time.
TEST_JOBS ?= $(shell expr 2 \* $$(nproc))

.PHONY: all deps build demo test bench soak fuzz lint install uninstall clean

all: build

# Packages only, for building, testing and the demo.
deps:
	@scripts/deps all

build:
	@scripts/deps build
	@echo "make: building (log: $(BUILD)/build.log)"
	@mkdir -p $(BUILD)
	@{ cmake -S . -B $(BUILD) -DCMAKE_BUILD_TYPE=RelWithDebInfo && \
	   cmake --build $(BUILD) --parallel $(JOBS); } >$(BUILD)/build.log 2>&1 || \
	   { tail -40 $(BUILD)/build.log >&2; exit 1; }

demo:
	@scripts/deps demo
	@$(MAKE) --no-print-directory build
	@demo/run $(BUILD)/ektypon

test:
	@scripts/deps all
	@cmake -S . -B $(BUILD) -DCMAKE_BUILD_TYPE=RelWithDebInfo -DEKTYPON_WERROR=ON -DEKTYPON_TESTS=ON >/dev/null
	@cmake --build $(BUILD) --parallel $(JOBS)
	@ctest --test-dir $(BUILD) --output-on-failure --parallel $(TEST_JOBS)

bench: build
	@scripts/deps all
	@cmake --build $(BUILD) --target bench_capture bench_images --parallel $(JOBS)
	@bench/run $(BUILD)/ektypon 1024 5 $(BUILD)/bench_images
	@bench/files $(BUILD)/ektypon
	@bench/wanted $(BUILD)/ektypon
	@bench/curve $(BUILD)/bench_capture

soak:
	@scripts/soak $(BUILD) $(SEED)

fuzz:
	@scripts/fuzz $(SECONDS_EACH)

lint:
	@scripts/lint

install: build
	@cmake --install $(BUILD)

# What the last `make install` of this build folder installed.
uninstall:
	@test -f $(BUILD)/install_manifest.txt || { echo "make: $(BUILD) has no install_manifest.txt: nothing was installed from it" >&2; exit 1; }
	@xargs -d '\n' -a $(BUILD)/install_manifest.txt rm -f --
	@rm -f $(BUILD)/install_manifest.txt

clean:
	rm -rf $(BUILD)
