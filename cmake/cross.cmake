# Linux on another processor, with Debian's cross compiler, and its emulator to run what is made.
#   cmake -DCMAKE_TOOLCHAIN_FILE=cmake/cross.cmake -DBAMBINO_TRIPLE=aarch64-linux-gnu …
set(CMAKE_TRY_COMPILE_PLATFORM_VARIABLES BAMBINO_TRIPLE)
string(REGEX REPLACE "-.*" "" processor ${BAMBINO_TRIPLE})
set(CMAKE_SYSTEM_NAME Linux)
set(CMAKE_SYSTEM_PROCESSOR ${processor})
set(CMAKE_C_COMPILER ${BAMBINO_TRIPLE}-gcc)
set(CMAKE_CROSSCOMPILING_EMULATOR qemu-${processor} -L /usr/${BAMBINO_TRIPLE})
set(CMAKE_FIND_ROOT_PATH /usr/${BAMBINO_TRIPLE})
set(CMAKE_FIND_ROOT_PATH_MODE_PROGRAM NEVER)
set(CMAKE_FIND_ROOT_PATH_MODE_LIBRARY ONLY)
set(CMAKE_FIND_ROOT_PATH_MODE_INCLUDE ONLY)
