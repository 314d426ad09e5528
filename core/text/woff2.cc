#include "woff2.h"

#include <woff2/decode.h>
#include <woff2/output.h>

#include <cstdlib>
#include <cstring>
#include <string>

// unpack_woff2 gives the font in a WOFF2 file, of at most so many bytes, or NULL.
extern "C" char *unpack_woff2(const char *data, size_t n, size_t most, size_t *size) {
	try {
		const uint8_t *in = reinterpret_cast<const uint8_t *>(data);
		size_t whole = woff2::ComputeWOFF2FinalSize(in, n);
		std::string out;
		if (whole > most) whole = most;
		out.reserve(whole);
		woff2::WOFF2StringOut to(&out);
		to.SetMaxSize(most);
		if (!woff2::ConvertWOFF2ToTTF(in, n, &to) || !to.Size()) return nullptr;
		char *copy = static_cast<char *>(malloc(to.Size()));
		if (!copy) return nullptr;
		memcpy(copy, out.data(), to.Size());
		*size = to.Size();
		return copy;
	} catch (...) {
		return nullptr;
	}
}
