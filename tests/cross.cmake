# The unit tests of core and ports for another processor (cmake/cross.cmake) that Debian has no libraries for: those that
# they need are made from their sources. Simulated cameras and the command, which read configurations, are left out.
find_package(Threads REQUIRED)
set(sources ${PROJECT_SOURCE_DIR}/build/sources)
add_library(cross_libraries STATIC ${sources}/cjson/cJSON.c ${sources}/http-parser/http_parser.c ${sources}/cmocka/src/cmocka.c)
set(portable ${PROJECT_BINARY_DIR}/portable)
file(MAKE_DIRECTORY ${portable}/cjson)
file(COPY_FILE ${sources}/cjson/cJSON.h ${portable}/cjson/cJSON.h)
file(COPY_FILE ${sources}/http-parser/http_parser.h ${portable}/http_parser.h)
target_include_directories(cross_libraries SYSTEM PUBLIC ${portable} ${sources}/cmocka/include)
target_compile_definitions(cross_libraries PRIVATE HAVE_CLOCK_GETTIME HAVE_STDINT_H HAVE_INTTYPES_H HAVE_SIGNAL_H HAVE_STRSIGNAL HAVE_SNPRINTF
  HAVE_VSNPRINTF HAVE_STRUCT_TIMESPEC HAVE_GCC_THREAD_LOCAL_STORAGE _GNU_SOURCE)
target_compile_options(cross_libraries PRIVATE -w)
target_link_libraries(bambino_core PUBLIC cross_libraries)

include(ports/tls/tls.cmake)
add_library(bambino_feeder STATIC ports/feeder/feeder.c ports/feeder/join.c)
include(cmake/atomic.cmake)
target_link_libraries(bambino_feeder PUBLIC bambino_core ${BAMBINO_ATOMIC})
add_library(bambino_linux STATIC ports/text/text.c ports/linux/linux.c ports/linux/net.c ports/linux/path.c ports/linux/udp.c ports/linux/interfaces.c
  ports/linux/destination.c ports/linux/storage.c ports/linux/notify.c ports/linux/lines.c ports/linux/serve.c)
target_include_directories(bambino_linux PRIVATE src ports)
target_compile_definitions(bambino_linux PRIVATE _GNU_SOURCE)
target_link_libraries(bambino_linux PUBLIC bambino_core bambino_feeder Threads::Threads)
add_library(bambino_poll STATIC ports/poll/poll.c)
target_compile_definitions(bambino_poll PRIVATE _POSIX_C_SOURCE=200809L)
target_link_libraries(bambino_poll PUBLIC bambino_core)
add_library(bambino_port_check STATIC ports/check/run.c ports/check/basics.c ports/check/streams.c ports/check/lent.c
  ports/check/datagrams.c ports/check/cameras.c ports/check/host_peers.c ports/check/port_peers.c)
target_include_directories(bambino_port_check PRIVATE ports)
target_compile_definitions(bambino_port_check PRIVATE _GNU_SOURCE)
target_compile_options(bambino_port_check PRIVATE -Wno-conversion)
target_link_libraries(bambino_port_check PUBLIC bambino_core)

# Cameras, and the encoders for those that give pixels.
include(ExternalProject)
set(jpeg ${PROJECT_BINARY_DIR}/jpeg)
ExternalProject_Add(jpeg_of_source SOURCE_DIR ${sources}/libjpeg-turbo BINARY_DIR ${jpeg} INSTALL_COMMAND "" BUILD_COMMAND
  ${CMAKE_COMMAND} --build . --target jpeg-static turbojpeg-static CMAKE_ARGS -DCMAKE_TOOLCHAIN_FILE=${CMAKE_TOOLCHAIN_FILE}
  -DBAMBINO_TRIPLE=${BAMBINO_TRIPLE} -DCMAKE_BUILD_TYPE=Release -DENABLE_SHARED=OFF -DWITH_SIMD=OFF)
set(h264 ${PROJECT_BINARY_DIR}/h264)
# Its Makefile builds where it stands: in a copy.
ExternalProject_Add(h264_of_source SOURCE_DIR ${h264} DOWNLOAD_COMMAND cp -r ${sources}/openh264/. ${h264} CONFIGURE_COMMAND "" BUILD_IN_SOURCE ON
  BUILD_COMMAND $(MAKE) -s OS=linux ARCH=${CMAKE_SYSTEM_PROCESSOR} USE_ASM=No CC=${CMAKE_C_COMPILER} CXX=${BAMBINO_PREFIX}g++ AR=${CMAKE_AR} libopenh264.a
  INSTALL_COMMAND "")
add_library(bambino_codec STATIC ports/codec/picture.c ports/codec/encoders.c ports/codec/sps_rate.c ports/codec/streams.c
  ports/codec/still_h264.c ports/codec/split.c ports/codec/encode_jpeg.c ports/codec/encode_h264.c ports/codec/decode_jpeg.c)
add_dependencies(bambino_codec jpeg_of_source h264_of_source)
target_include_directories(bambino_codec PRIVATE src ports)
target_include_directories(bambino_codec SYSTEM PRIVATE ${sources}/libjpeg-turbo ${jpeg} ${sources}/openh264/codec/api)
target_compile_definitions(bambino_codec PRIVATE _GNU_SOURCE BMB_HAVE_JPEG BMB_HAVE_H264)
target_link_libraries(bambino_codec PUBLIC bambino_core Threads::Threads ${jpeg}/libturbojpeg.a ${jpeg}/libjpeg.a
  ${h264}/libopenh264.a stdc++ m)
file(GLOB v4l2_sources CONFIGURE_DEPENDS ports/v4l2/*.c)
add_library(bambino_v4l2 STATIC ${v4l2_sources} ports/intake/intake.c ports/intake/source.c)
target_include_directories(bambino_v4l2 PRIVATE src ports)
target_compile_definitions(bambino_v4l2 PRIVATE _GNU_SOURCE)
target_link_libraries(bambino_v4l2 PUBLIC bambino_linux bambino_codec)

add_library(test_support STATIC tests/support/fake_port.c tests/support/scene.c tests/support/script_v4l2.c)
target_include_directories(test_support PUBLIC tests src ports)
target_compile_definitions(test_support PUBLIC _GNU_SOURCE BAMBINO_SOURCE="${PROJECT_SOURCE_DIR}" BAMBINO_BUILD="${PROJECT_BINARY_DIR}")
target_compile_options(test_support PUBLIC -Wno-conversion -Wno-missing-prototypes)
target_link_libraries(test_support PUBLIC bambino_port_check bambino_poll bambino_v4l2 bambino_tls m)

enable_testing()
# Without test_scenes: its sums hang on the order in which one compiler works out arguments.
file(GLOB units CONFIGURE_DEPENDS tests/base/test_*.c tests/wire/test_*.c tests/serve/test_*.c tests/flow/test_*.c tests/device/test_*.c)
list(FILTER units EXCLUDE REGEX "test_scenes\\.c$")
list(APPEND units tests/ports/test_feeder.c tests/ports/test_linux.c tests/ports/test_v4l2.c tests/ports/test_intake.c)
foreach(source ${units})
  get_filename_component(name ${source} NAME_WE)
  add_executable(${name} ${source})
  target_link_libraries(${name} PRIVATE test_support)
  add_test(NAME ${name} COMMAND ${name})
  set_tests_properties(${name} PROPERTIES TIMEOUT 300 LABELS unit ENVIRONMENT BAMBINO_EMULATED=1)
endforeach()
target_link_options(test_allocation PRIVATE -Wl,--wrap=malloc -Wl,--wrap=calloc -Wl,--wrap=realloc)
# Sums by another hand than the core's.
target_sources(test_access PRIVATE ${sources}/mbedtls/library/md5.c ${sources}/mbedtls/library/sha256.c ${sources}/mbedtls/library/platform_util.c)
target_include_directories(test_access SYSTEM PRIVATE ${sources}/mbedtls/include)
set_source_files_properties(${sources}/mbedtls/library/md5.c ${sources}/mbedtls/library/sha256.c ${sources}/mbedtls/library/platform_util.c
  PROPERTIES COMPILE_OPTIONS -w)
