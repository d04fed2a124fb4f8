# A thin layer over CMake: each target sets up what it needs, builds, and runs. See CMakePresets.json.
JOBS ?= $(shell nproc)
# The library for encryption comes as sources; where they cannot be had, all else is built.
BUILD = { scripts/sources build/sources mbedtls || echo "Its sources cannot be had just now: there is no encryption in this build."; } && echo "Building ($(1))" && cmake --preset $(1) $(2) >/dev/null && cmake --build build/$(1) --parallel $(JOBS) -- --no-print-directory -s
PREFIX ?= /usr/local

.PHONY: demo test test-quick test-threads build-sanitized test-sanitized test-changes test-kernel test-cross cross test-board-command packages test-packages release test-release abi board-roots board-image test-board board-demo plain-builds screenshots bench fuzz weak-links soak lint format size firmware firmware-demo install docs figures clean

demo:
	@scripts/setup build
	@$(call BUILD,release)
	@build/release/bambino demo $(ARGS)

test:
	@scripts/setup test
	@scripts/sources build/sources
	@$(call BUILD,firmware)
	@$(call BUILD,debug)
	@scripts/run-tests build/debug

# Units only: no camera, no browser, no decoder.
test-quick:
	@scripts/setup quick
	@$(call BUILD,debug)
	@scripts/run-tests build/debug -L unit

build-sanitized:
	@scripts/setup test clang
	@scripts/sources build/sources
	@$(call BUILD,sanitized)
# Not the pages, the emulated board and the longest look at what decoders show, which make test has.
test-sanitized: build-sanitized
	@scripts/run-tests build/sanitized -LE 'page|board' -E '^test_clients$$'

# What has threads, under ThreadSanitizer.
THREADED = test_sim test_codec test_intake test_feeder test_linux test_v4l2 test_v4l2_input test_receive
test-threads:
	@scripts/setup test
	@scripts/sources build/sources mbedtls
	@echo "Building (threads)" && cmake --preset threads >/dev/null && cmake --build build/threads --parallel $(JOBS) --target $(THREADED) -- --no-print-directory -s
	@for test in $(THREADED); do (cd build/threads/tests && TSAN_OPTIONS=exitcode=66 setarch -R ./$$test >$$test.log 2>&1) || { cat build/threads/tests/$$test.log; exit 1; }; done; echo "no data race was seen in $(THREADED)"

# The unit tests on other processors, in Debian's emulator: s390x is big-endian, armhf has 32 bits.
CROSS ?= aarch64-linux-gnu arm-linux-gnueabihf riscv64-linux-gnu s390x-linux-gnu
SANITIZE ?= yes
test-cross:
	@scripts/setup cross "$(CROSS)"
	@scripts/sources build/sources
	@scripts/test-cross $(SANITIZE) $(CROSS)

# The command for a board with another processor, as one file: FOR a compiler's prefix, or a toolchain file of CMake.
# WITH adds parts (scripts/cross --parts prints them); ONE_FILE=no links the libraries of the board.
FOR ?= aarch64-linux-gnu
WITH ?=
ONE_FILE ?= yes
cross:
	@scripts/cross "$(FOR)" "$(WITH)" $(ONE_FILE) $(LIBRARIES)

# … and what the command for arm64 does, in Debian's emulator.
test-board-command:
	@scripts/setup cross aarch64-linux-gnu cross-build aarch64-linux-gnu
	@tests/cross/test.sh

# Debian packages, for this machine or another ARCH (arm64, armhf …), made and judged in a clean root; and what becomes of
# them as they are installed, upgraded, removed and purged. As root.
ARCH ?= $(shell dpkg --print-architecture)
packages:
	@scripts/setup packages
	@$(call BUILD,release)
	@scripts/packages $(ARCH) build/packages

test-packages: packages
	@tests/packages/test.sh build/packages

# Sources, packages for each of ARCHES and checksums of the commit, the same bytes whenever it is made. As root.
ARCHES ?= amd64 arm64 armhf
release:
	@scripts/setup packages
	@$(call BUILD,release)
	@scripts/release build/out $(ARCHES)

# The release twice, and its packages as test-packages has them.
test-release:
	@scripts/setup packages
	@$(call BUILD,release)
	@tests/packages/release.sh build/packages
	@tests/packages/test.sh build/packages

# What a program for the last release would miss.
abi:
	@scripts/setup packages
	@scripts/abi

# A disk for a single-board computer with 64-bit ARM (board-roots is the part of it that no change of ours touches), the whole
# of it in the emulator (BOARD_CUTS times the power is cut), and the same to look at. As root.
BOARD_CUTS ?= 20
board-roots:
	@scripts/setup packages board
	@scripts/board-image --root & root=$$!; scripts/packages --root arm64 && wait $$root
board-image: board-roots
	@$(MAKE) --no-print-directory -s packages ARCH=arm64
	@scripts/board-image build/board build/packages
test-board:
	@$(MAKE) --no-print-directory -s board-image || { [ ! -e /proc/sys/fs/binfmt_misc/qemu-aarch64 ] && echo "No image can be built here: not tested."; }
	@[ ! -e build/board/root.img ] || { cp tests/kernel/usb_camera.c build/roots/arm64-build/tmp/ && \
		chroot build/roots/arm64-build aarch64-linux-gnu-gcc -O1 -std=gnu11 -static -o /tmp/usb_camera /tmp/usb_camera.c && \
		python3 tests/board/test.py build/board build/packages --cuts $(BOARD_CUTS) --usb build/roots/arm64-build/tmp/usb_camera; }
board-demo:
	@[ -e build/board/root.img ] || $(MAKE) --no-print-directory -s board-image
	@scripts/board-demo build/board

# Changes of size, rate and codec at random, while viewers of all protocols watch.
CHANGES ?= 1000
test-changes:
	@scripts/setup build
	@$(call BUILD,release)
	@python3 tests/e2e/changes.py build/release/bambino $(CHANGES)

# What encoding and serving cost on this machine and on emulated ones: docs/figures.jsonl and its table.
figures:
	@scripts/setup build
	@$(call BUILD,release)
	@scripts/figures

# Without our presets, with clang.
plain-builds:
	@scripts/setup test clang others
	@scripts/plain-builds
	@scripts/other-systems

# Takes the pictures of docs/screenshots anew.
screenshots:
	@scripts/setup pictures
	@$(call BUILD,release)
	@scripts/screenshots build/release/bambino

# Real kernel drivers, in an emulated machine: KERNEL_CYCLES times a USB camera is unplugged while two watch.
KERNEL_CYCLES ?= 100
test-kernel:
	@scripts/setup kernel
	@$(call BUILD,release)
	@$(CC) -O1 -Wall -Wextra -Werror -std=gnu11 tests/kernel/usb_camera.c -o build/usb_camera
	@scripts/kernel build/kernel tests/kernel/guest.py $(CURDIR)/build/release/bambino $(CURDIR)/build/usb_camera $(CURDIR) $(KERNEL_CYCLES)

# How long each receiver behind a slow path is watched.
SLOW_SECONDS ?= 60
bench:
	@scripts/setup build
	@$(call BUILD,release,-DBAMBINO_BENCH=ON)
	@build/release/bench/bench build/bench.json
	@echo "Behind a path of 3 Mbit/s, a feed of 6; the limit is 150 ms for 95 %:"
	@SLOW_BOUND=150 tests/e2e/slow_link.sh build/release/bambino $(SLOW_SECONDS) build/release/bench/blocking_sender || true
	@python3 bench/weak_links.py build/release/bambino --seconds $(SLOW_SECONDS) --rates 3 --loss 0 --trips 5 --only table --plain || true

# What arrives behind narrow links: writes the table and the picture of docs/weak-links.md. As root, on a quiet machine.
weak-links:
	@scripts/setup pictures
	@$(call BUILD,release)
	@python3 bench/weak_links.py build/release/bambino --write

# A day of coming and going on a turned clock, and SOAK_MINUTES of it in real time. As root.
SOAK_MINUTES ?= 10
soak:
	@scripts/setup test
	@$(call BUILD,debug)
	@$(call BUILD,release)
	@BAMBINO_HOURS=24 build/debug/tests/test_hours
	@python3 bench/soak.py build/release/bambino --minutes $(SOAK_MINUTES)

# FUZZ_SECONDS for each target.
FUZZ_SECONDS ?= 60
fuzz:
	@scripts/setup clang
	@$(call BUILD,fuzz)
	@scripts/fuzz $(FUZZ_SECONDS)

lint:
	@scripts/setup lint
	@scripts/lint

format:
	@scripts/setup lint
	@git ls-files -co --exclude-standard '*.c' '*.h' | xargs clang-format -i

# What firmware takes, by part; fails beyond the limits of ports/mps2/limits.ini.
size: firmware
	@scripts/size build/firmware

# Images for the emulated Cortex-M3 board of ports/mps2: build/firmware/smallest.elf, rtsp.elf, push.elf …
firmware:
	@scripts/setup firmware
	@scripts/sources build/sources
	@$(call BUILD,firmware)

# Starts one of them; its page is then at http://127.0.0.1:8080 and rtsp://127.0.0.1:8554 of this machine.
IMAGE ?= rtsp
HTTP ?= 8080
RTSP ?= 8554
firmware-demo: firmware
	@scripts/board build/firmware/$(IMAGE).elf $(HTTP) $(RTSP)

docs:
	@scripts/setup build
	@$(call BUILD,release)
	@scripts/config-reference

install:
	@scripts/setup build
	@cmake --preset release -DCMAKE_INSTALL_PREFIX=$(PREFIX) >/dev/null
	@cmake --build build/release --parallel $(JOBS) -- --no-print-directory -s
	@cmake --install build/release

clean:
	@rm -rf build node_modules
