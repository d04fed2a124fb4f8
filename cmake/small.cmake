# For boards: what is compiled and linked from here on is as small as the compiler makes it.
option(BAMBINO_SMALL "As small as the compiler makes it" OFF)
option(BAMBINO_ONE_FILE "Everything is linked statically, for a command that runs by itself" OFF)
if(BAMBINO_SMALL)
  # The linker makes the code, and is told the same.
  set(small -ffunction-sections -fdata-sections -fno-asynchronous-unwind-tables -fno-unwind-tables -flto -flto-partition=one)
  if(CMAKE_C_COMPILER_ID STREQUAL GNU)
    # Copies that -Os makes for speed all the same: 5 KiB of the command for aarch64.
    list(APPEND small -fno-move-loop-invariants -fno-guess-branch-probability -fno-shrink-wrap -fno-partial-inlining -fno-ipa-sra)
  endif()
  if(CMAKE_SYSTEM_PROCESSOR STREQUAL aarch64 AND NOT BAMBINO_ONE_FILE)
    list(APPEND small -mcmodel=tiny) # below 1 MiB, which it is without its libraries
  endif()
  add_compile_options(${small})
  add_link_options(${small} -Wl,--gc-sections)
  if(CMAKE_SYSTEM_PROCESSOR STREQUAL aarch64)
    add_link_options(-Wl,-z,max-page-size=16384) # kernels of boards have pages of 4 or 16 KiB
  endif()
endif()
