package metadata

import (
	"strings"
	"testing"
)

func TestADrawingSaysNothingOfItsMaking(t *testing.T) {
	const file = `<?xml version="1.0"?>
<!-- wren's drawing -->
<?wren drew it?>
<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" xmlns:s="http://kestrel.test/studio" width="9" s:docname="wren.svg" height="9">
<metadata id="m"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><x>wren</x></rdf:RDF></metadata>
<s:view a="wren"/><s:guides><rect width="9"/></s:guides>
<defs><rect id="r" s:path='/home/wren/kite.svg' width="4" height="4"/></defs><!-- wren again -->
<use xlink:href="#r" xml:space="preserve"/><text>a &lt; b</text></svg>
<!-- wren hidden behind the end -->`
	const want = `<?xml version="1.0"?>


<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" xmlns:s="http://kestrel.test/studio" width="9" height="9">


<defs><rect id="r" width="4" height="4"/></defs>
<use xlink:href="#r" xml:space="preserve"/><text>a &lt; b</text></svg>
`
	got, ok := Strip([]byte(file))
	if !ok || string(got) != want {
		t.Errorf("%v\n%s", ok, got)
	}
	if again, ok := Strip(got); !ok || string(again) != want {
		t.Error("a second time it changes again")
	}
	for _, broken := range []string{file[:len(file)/2], "<svg><metadata>wren", "<svg <"} {
		if got, ok := Strip([]byte(broken)); ok && strings.Contains(string(got), "wren") {
			t.Errorf("%q is said to be free of it", got)
		}
	}
}
