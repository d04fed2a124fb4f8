# The unit tests of core and ports for another processor (cmake/cross.cmake), with the libraries that they need from
# their sources: cameras, codecs and the command are left out.
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

add_library(test_support STATIC tests/support/fake_port.c tests/support/scene.c)
target_include_directories(test_support PUBLIC tests src ports)
target_compile_definitions(test_support PUBLIC _GNU_SOURCE BAMBINO_SOURCE="${PROJECT_SOURCE_DIR}" BAMBINO_BUILD="${PROJECT_BINARY_DIR}")
target_compile_options(test_support PUBLIC -Wno-conversion -Wno-missing-prototypes)
target_link_libraries(test_support PUBLIC bambino_port_check bambino_poll bambino_linux bambino_tls)

enable_testing()
# Without test_scenes: its sums hang on the order in which one compiler works out arguments.
file(GLOB units CONFIGURE_DEPENDS tests/base/test_*.c tests/wire/test_*.c tests/serve/test_*.c tests/flow/test_*.c tests/device/test_*.c)
list(FILTER units EXCLUDE REGEX "test_scenes\\.c$")
list(APPEND units tests/ports/test_feeder.c)
foreach(source ${units})
  get_filename_component(name ${source} NAME_WE)
  add_executable(${name} ${source})
  target_link_libraries(${name} PRIVATE test_support)
  add_test(NAME ${name} COMMAND ${name})
  set_tests_properties(${name} PROPERTIES TIMEOUT 300 LABELS unit)
endforeach()
target_link_options(test_allocation PRIVATE -Wl,--wrap=malloc -Wl,--wrap=calloc -Wl,--wrap=realloc)
# Sums by another hand than the core's.
target_sources(test_access PRIVATE ${sources}/mbedtls/library/md5.c ${sources}/mbedtls/library/sha256.c ${sources}/mbedtls/library/platform_util.c)
target_include_directories(test_access SYSTEM PRIVATE ${sources}/mbedtls/include)
set_source_files_properties(${sources}/mbedtls/library/md5.c ${sources}/mbedtls/library/sha256.c ${sources}/mbedtls/library/platform_util.c
  PROPERTIES COMPILE_OPTIONS -w)
