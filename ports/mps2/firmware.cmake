# Firmware for the emulated board. Each image compiles the core with options of its own.
enable_language(ASM)
if(BAMBINO_WITHOUT) # for scripts/option-costs
  add_compile_definitions(${BAMBINO_WITHOUT})
endif()
set(sources ${PROJECT_SOURCE_DIR}/build/sources CACHE PATH "Sources of lwIP, cJSON and http-parser, from scripts/sources")
set(lwip ${sources}/lwip/src)
file(GLOB lwip_sources ${lwip}/core/*.c ${lwip}/core/ipv4/*.c)
list(APPEND lwip_sources ${lwip}/netif/ethernet.c)

set(portable ${PROJECT_BINARY_DIR}/portable)
file(MAKE_DIRECTORY ${portable}/cjson)
configure_file(${sources}/cjson/cJSON.h ${portable}/cjson/cJSON.h COPYONLY)

# Others' code: its warnings are theirs. The second one can talk to itself, for the port check.
foreach(stack board_lwip loop_lwip)
  add_library(${stack} OBJECT ${lwip_sources})
  target_include_directories(${stack} SYSTEM PUBLIC ${lwip}/include)
  target_include_directories(${stack} PUBLIC ${PROJECT_SOURCE_DIR}/ports/mps2)
  target_compile_options(${stack} PRIVATE -w)
endforeach()
target_compile_definitions(loop_lwip PUBLIC MPS2_LOOPBACK)
add_library(board_libraries OBJECT ${sources}/cjson/cJSON.c ${sources}/http-parser/http_parser.c)
target_compile_options(board_libraries PRIVATE -w)

set_source_files_properties(${PROJECT_SOURCE_DIR}/ports/mps2/clip.S PROPERTIES
  COMPILE_OPTIONS "-I${PROJECT_SOURCE_DIR}/demo" OBJECT_DEPENDS ${PROJECT_SOURCE_DIR}/demo/loco.mjpeg)

file(GLOB port_sources ${PROJECT_SOURCE_DIR}/ports/mps2/*.c ${PROJECT_SOURCE_DIR}/ports/lwip/*.c)
list(APPEND port_sources ${PROJECT_SOURCE_DIR}/ports/mps2/clip.S ${PROJECT_SOURCE_DIR}/ports/text/text.c
  ${PROJECT_SOURCE_DIR}/ports/bare/console.c ${PROJECT_SOURCE_DIR}/ports/bare/buffers.c ${PROJECT_SOURCE_DIR}/ports/bare/records.c)

# What every image has, whatever C library and heap it has.
function(board_image name)
  set_target_properties(${name} PROPERTIES SUFFIX .elf LINK_DEPENDS ${PROJECT_SOURCE_DIR}/ports/mps2/mps2.ld)
  target_include_directories(${name} PRIVATE ${PROJECT_SOURCE_DIR}/src ${PROJECT_SOURCE_DIR}/ports ${PROJECT_SOURCE_DIR}/ports/mps2)
  target_include_directories(${name} SYSTEM PRIVATE ${lwip}/include)
  # newlib has PRId64 only beside a stdint.h of its own, and gcc's is found first.
  target_compile_definitions(${name} PRIVATE __int64_t_defined=1)
  target_compile_options(${name} PRIVATE $<$<COMPILE_LANGUAGE:C>:-Wno-conversion>)
  target_link_options(${name} PRIVATE -nostartfiles -T${PROJECT_SOURCE_DIR}/ports/mps2/mps2.ld
    -Wl,--gc-sections -Wl,-Map=${PROJECT_BINARY_DIR}/${name}.map -Wl,--no-warn-rwx-segments)
endfunction()

# The page, as bytes.
file(GLOB page_files CONFIGURE_DEPENDS ${PROJECT_SOURCE_DIR}/pages/*.html ${PROJECT_SOURCE_DIR}/pages/*.css
  ${PROJECT_SOURCE_DIR}/pages/*.js ${PROJECT_SOURCE_DIR}/pages/*.svg)
set(pages_c ${PROJECT_BINARY_DIR}/pages.c)
add_custom_command(OUTPUT ${pages_c}
  COMMAND ${CMAKE_COMMAND} -DOUT=${pages_c} "-DFILES=${page_files}" -P ${PROJECT_SOURCE_DIR}/cmake/embed.cmake
  DEPENDS ${page_files} ${PROJECT_SOURCE_DIR}/cmake/embed.cmake VERBATIM)

# What stands behind main are further sources.
function(bambino_firmware name options main)
  add_library(core_${name} STATIC ${core_sources})
  target_include_directories(core_${name} PUBLIC ${PROJECT_SOURCE_DIR}/include PRIVATE ${PROJECT_SOURCE_DIR}/src)
  target_include_directories(core_${name} SYSTEM PRIVATE ${portable} ${sources}/http-parser)
  if(options)
    target_compile_definitions(core_${name} PUBLIC BMB_OPTIONS_FILE="${PROJECT_SOURCE_DIR}/examples/firmware/${options}")
  endif()
  add_executable(${name} ${main} ${ARGN} ${port_sources} ${PROJECT_SOURCE_DIR}/ports/bare/format.c ${PROJECT_SOURCE_DIR}/ports/bare/no_heap.c
    $<TARGET_OBJECTS:board_lwip> $<TARGET_OBJECTS:board_libraries>)
  board_image(${name})
  target_link_options(${name} PRIVATE --specs=nano.specs)
  target_link_libraries(${name} PRIVATE core_${name} c gcc)
endfunction()

bambino_firmware(smallest smallest_options.h ${PROJECT_SOURCE_DIR}/examples/firmware/smallest.c)
bambino_firmware(rtsp rtsp_options.h ${PROJECT_SOURCE_DIR}/examples/firmware/rtsp.c ${pages_c})
bambino_firmware(push push_options.h ${PROJECT_SOURCE_DIR}/examples/firmware/push.c)
# Everything that there is, with a network that does nothing: what sending costs.
bambino_firmware(cost "" ${PROJECT_SOURCE_DIR}/tests/firmware/cost.c)

# What goes wrong on a board.
bambino_firmware(faults smallest_options.h ${PROJECT_SOURCE_DIR}/tests/firmware/faults.c)

# The port check on the board: with cmocka, and the heap and stdio that it needs.
set(portable_cmocka ${portable}/cmocka)
file(WRITE ${portable_cmocka}/config.h "#define HAVE_SIGNAL_H 0\n")
file(GLOB check_sources ${PROJECT_SOURCE_DIR}/ports/check/*.c)
list(FILTER check_sources EXCLUDE REGEX "host_peers")
add_executable(port_check tests/firmware/port_check.c ${check_sources} ${port_sources} ${sources}/cmocka/src/cmocka.c
  ${PROJECT_SOURCE_DIR}/src/base/names.c ${PROJECT_SOURCE_DIR}/src/base/bytes.c ${PROJECT_SOURCE_DIR}/src/base/light.c $<TARGET_OBJECTS:loop_lwip> $<TARGET_OBJECTS:board_libraries>)
set_source_files_properties(${sources}/cmocka/src/cmocka.c PROPERTIES COMPILE_OPTIONS "-w;-I${portable_cmocka};-DHAVE_CONFIG_H")
board_image(port_check)
target_include_directories(port_check PRIVATE ${PROJECT_SOURCE_DIR}/include)
target_include_directories(port_check SYSTEM PRIVATE ${sources}/cmocka/include ${portable} ${sources}/http-parser)
target_compile_definitions(port_check PRIVATE MPS2_LOOPBACK BMB_LWIP_WAITING=32768u)
target_link_options(port_check PRIVATE --specs=nosys.specs -Wl,--no-warnings -Wl,--defsym=board_ram=1024K)
target_link_libraries(port_check PRIVATE bambino_core c gcc)
target_include_directories(bambino_core SYSTEM PRIVATE ${portable} ${sources}/http-parser)
