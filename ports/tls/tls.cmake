# What Mbed TLS does for ports. The TLS port needs it with memory of our choice, which no package has: it is compiled from
# the sources of Debian's package (scripts/sources). Without them there are the hashes, by the package, and no TLS.
set(BAMBINO_MBEDTLS ${PROJECT_SOURCE_DIR}/build/sources/mbedtls CACHE PATH "Sources of Mbed TLS 2.28, from scripts/sources")
option(BAMBINO_TLS "Encrypted outlets and pushes, where the sources of Mbed TLS are there" ON)
add_library(bambino_tls STATIC)
target_link_libraries(bambino_tls PUBLIC bambino_core)
if(BAMBINO_TLS AND EXISTS ${BAMBINO_MBEDTLS}/library/ssl_tls.c)
  set(BAMBINO_HAS_TLS ON)
  file(GLOB mbedtls_sources ${BAMBINO_MBEDTLS}/library/*.c)
  # One object, in which the library's own names are local: a program may have another Mbed TLS beside it.
  add_library(bambino_tls_parts OBJECT ${mbedtls_sources} ports/tls/hash.c ports/tls/arena.c ports/tls/connection.c
    ports/tls/identity.c ports/tls/tls.c ports/layer/layer.c)
  target_compile_options(bambino_tls_parts PRIVATE -fno-lto) # its names are made local in an object that is one already
  target_include_directories(bambino_tls_parts PRIVATE ports ${PROJECT_SOURCE_DIR}/include)
  target_include_directories(bambino_tls_parts SYSTEM PRIVATE ${BAMBINO_MBEDTLS}/include)
  target_compile_definitions(bambino_tls_parts PRIVATE MBEDTLS_CONFIG_FILE="tls/mbedtls_config.h")
  # Others' code: its warnings are theirs, as is how they compare nothing with nothing; and unoptimized it is ten times as
  # slow as what it protects.
  set_source_files_properties(${mbedtls_sources} PROPERTIES COMPILE_OPTIONS "-w;-O2;-fno-sanitize=undefined")
  set_source_files_properties(ports/tls/arena.c PROPERTIES COMPILE_OPTIONS "-O2") # asked thousands of times a handshake
  set(tls_object ${PROJECT_BINARY_DIR}/bambino_tls.o)
  add_custom_command(OUTPUT ${tls_object}
    COMMAND ${CMAKE_LINKER} -r -o ${tls_object}.all $<TARGET_OBJECTS:bambino_tls_parts>
    COMMAND ${CMAKE_OBJCOPY} --wildcard --keep-global-symbol=bmb_tls_there --keep-global-symbol=bmb_tls_lay_over
      --keep-global-symbol=bmb_tls_use --keep-global-symbol=bmb_tls_names_change
      --keep-global-symbol=bmb_tls_figures_get --keep-global-symbol=bmb_mbedtls_hash
      ${tls_object}.all ${tls_object}
    DEPENDS bambino_tls_parts $<TARGET_OBJECTS:bambino_tls_parts> COMMAND_EXPAND_LISTS VERBATIM)
  target_sources(bambino_tls PRIVATE ${tls_object})
  set_source_files_properties(${tls_object} PROPERTIES EXTERNAL_OBJECT ON GENERATED ON)
  set_target_properties(bambino_tls PROPERTIES LINKER_LANGUAGE C)
  set(pc_tls_libs "")
else()
  set(BAMBINO_HAS_TLS OFF)
  target_sources(bambino_tls PRIVATE ports/tls/hash.c ports/tls/none.c)
  find_library(MBEDCRYPTO_LIBRARY mbedcrypto)
  if(MBEDCRYPTO_LIBRARY)
    target_link_libraries(bambino_tls PRIVATE ${MBEDCRYPTO_LIBRARY})
    set(pc_tls_libs " -lmbedcrypto")
  else() # a processor that has no package of it: the hashes alone, from its sources
    set(hashes ${BAMBINO_MBEDTLS}/library/md5.c ${BAMBINO_MBEDTLS}/library/sha256.c ${BAMBINO_MBEDTLS}/library/platform_util.c)
    target_sources(bambino_tls PRIVATE ${hashes})
    set_source_files_properties(${hashes} PROPERTIES COMPILE_OPTIONS "-w;-O2")
    target_include_directories(bambino_tls SYSTEM PRIVATE ${BAMBINO_MBEDTLS}/include)
    set(pc_tls_libs "")
  endif()
  if(BAMBINO_TLS)
    message(STATUS "No TLS: the sources of Mbed TLS are not there (scripts/sources build/sources)")
  endif()
endif()
