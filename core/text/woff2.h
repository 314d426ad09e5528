#pragma once
#include <stddef.h>

#ifdef __cplusplus
extern "C"
#endif
char *unpack_woff2(const char *data, size_t n, size_t most, size_t *size);
