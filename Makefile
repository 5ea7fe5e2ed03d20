# SPDX-License-Identifier: MIT
# The front doors. What is built, and how, stands in CMakeLists.txt.
BUILD ?= build
JOBS ?= $(shell nproc)
# Tests wait for the disk most of the time.
TEST_JOBS ?= $(shell expr 2 \* $$(nproc))

.PHONY: all build demo test bench soak fuzz lint install clean

all: build

build:
	@scripts/deps build
	@cmake -S . -B $(BUILD) -DCMAKE_BUILD_TYPE=RelWithDebInfo >/dev/null
	@cmake --build $(BUILD) --parallel $(JOBS)

demo: build
	@demo/run $(BUILD)/ektypon

test:
	@scripts/deps all
	@cmake -S . -B $(BUILD) -DCMAKE_BUILD_TYPE=RelWithDebInfo -DEKTYPON_TESTS=ON >/dev/null
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

clean:
	rm -rf $(BUILD)
