# Processors without an exchange of single bytes (RISC-V) have it in a library.
include(CheckCSourceCompiles)
check_c_source_compiles("#include <stdatomic.h>
atomic_bool b; int main(void) { return atomic_exchange(&b, 1); }" BAMBINO_HAS_ATOMICS)
set(BAMBINO_ATOMIC "")
if(NOT BAMBINO_HAS_ATOMICS)
  set(BAMBINO_ATOMIC atomic)
endif()
