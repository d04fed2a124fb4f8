# Linux on another processor, with Debian's cross compiler, and its emulator to run what is made.
#   cmake -DCMAKE_TOOLCHAIN_FILE=cmake/cross.cmake -DBAMBINO_TRIPLE=aarch64-linux-gnu …
# BAMBINO_PREFIX: that of another compiler than Debian's, such as /opt/sdk/bin/arm-board-linux-gnueabihf-
# BAMBINO_LIBRARIES: where the libraries for that processor are (scripts/libraries).
set(CMAKE_TRY_COMPILE_PLATFORM_VARIABLES BAMBINO_TRIPLE BAMBINO_PREFIX BAMBINO_LIBRARIES)
string(REGEX REPLACE "-.*" "" processor ${BAMBINO_TRIPLE})
if(NOT BAMBINO_PREFIX)
  set(BAMBINO_PREFIX ${BAMBINO_TRIPLE}-)
endif()
set(CMAKE_SYSTEM_NAME Linux)
set(CMAKE_SYSTEM_PROCESSOR ${processor})
set(CMAKE_C_COMPILER ${BAMBINO_PREFIX}gcc)
set(libraries ${BAMBINO_LIBRARIES}/usr/lib/${BAMBINO_TRIPLE})
set(CMAKE_FIND_ROOT_PATH /usr/${BAMBINO_TRIPLE} ${BAMBINO_LIBRARIES})
set(root /usr/${BAMBINO_TRIPLE})
if(BAMBINO_LIBRARIES AND EXISTS ${libraries}/libc.so) # with a C library of their own, which is to come first
  set(root ${BAMBINO_LIBRARIES})
  set(CMAKE_SYSROOT ${root})
  set(CMAKE_FIND_ROOT_PATH ${root})
  add_link_options(-L${libraries} -B${libraries})
endif()
set(CMAKE_CROSSCOMPILING_EMULATOR qemu-${processor} -L ${root})
if(EXISTS /usr/lib/${BAMBINO_TRIPLE}/libm.so) # this machine's own
  list(APPEND CMAKE_FIND_ROOT_PATH /)
endif()
set(CMAKE_FIND_ROOT_PATH_MODE_PROGRAM NEVER)
set(CMAKE_FIND_ROOT_PATH_MODE_LIBRARY ONLY)
set(CMAKE_FIND_ROOT_PATH_MODE_INCLUDE ONLY)
if(BAMBINO_LIBRARIES)
  list(APPEND CMAKE_CROSSCOMPILING_EMULATOR -E LD_LIBRARY_PATH=${root}/lib:${libraries})
  string(APPEND CMAKE_EXE_LINKER_FLAGS_INIT " -Wl,-rpath-link,${libraries}")
  set(CMAKE_C_STANDARD_INCLUDE_DIRECTORIES ${BAMBINO_LIBRARIES}/usr/include ${BAMBINO_LIBRARIES}/usr/include/${BAMBINO_TRIPLE})
endif()
