package text

import (
	"slices"
	"strings"
	"sync"
	"unicode"
)

// The fonts of Debian's packages fonts-noto-core, fonts-noto-cjk and fonts-noto-color-emoji by their files' names, which say the family and
// the style.

// SystemFolders are where those packages put them.
var SystemFolders = []string{"/usr/share/fonts/truetype/noto", "/usr/share/fonts/opentype/noto"}

// SystemPackages are the packages.
var SystemPackages = []string{"fonts-noto-core", "fonts-noto-cjk", "fonts-noto-color-emoji"}

// styles says which styles a family has: r regular, b bold, i italic and bold italic.
const families = `Sans:bri SansDisplay:bri Serif:bri SerifDisplay:bri
KufiArabic:br LoopedLao:br LoopedThai:br Music:r NaskhArabic:br NastaliqUrdu:br RashiHebrew:br SansAdlam:br SansAdlamUnjoined:br
SansAnatolianHieroglyphs:r SansArabic:br SansArmenian:br SansAvestan:r SansBalinese:br SansBamum:br SansBassaVah:r SansBatak:r SansBengali:br
SansBhaiksuki:r SansBrahmi:r SansBuginese:r SansBuhid:r SansCanadianAboriginal:br SansCarian:r SansCaucasianAlbanian:r SansChakma:r SansCham:br
SansCherokee:br SansCoptic:r SansCuneiform:r SansCypriot:r SansDeseret:r SansDevanagari:br SansDuployan:r SansEgyptianHieroglyphs:r SansElbasan:r
SansElymaic:r SansEthiopic:br SansGeorgian:br SansGlagolitic:r SansGothic:r SansGrantha:r SansGujarati:br SansGunjalaGondi:r SansGurmukhi:br
SansHanifiRohingya:br SansHanunoo:r SansHatran:r SansHebrew:br SansImperialAramaic:r SansIndicSiyaqNumbers:r SansInscriptionalPahlavi:r
SansInscriptionalParthian:r SansJavanese:br SansKaithi:r SansKannada:br SansKayahLi:br SansKharoshthi:r SansKhmer:br SansKhojki:r SansKhudawadi:r
SansLao:br SansLepcha:r SansLimbu:r SansLinearA:r SansLinearB:r SansLisu:br SansLycian:r SansLydian:r SansMahajani:r SansMalayalam:br
SansMandaic:r SansManichaean:r SansMarchen:r SansMasaramGondi:r SansMath:r SansMayanNumerals:r SansMedefaidrin:br SansMeeteiMayek:br
SansMendeKikakui:r SansMeroitic:r SansMiao:r SansModi:r SansMongolian:r SansMro:r SansMultani:r SansMyanmar:br SansNKo:r SansNabataean:r
SansNewTaiLue:r SansNewa:r SansNushu:r SansOgham:r SansOlChiki:br SansOldHungarian:r SansOldItalic:r SansOldNorthArabian:r SansOldPermic:r
SansOldPersian:r SansOldSogdian:r SansOldSouthArabian:r SansOldTurkic:r SansOriya:br SansOsage:r SansOsmanya:r SansPahawhHmong:r SansPalmyrene:r
SansPauCinHau:r SansPhagsPa:r SansPhoenician:r SansPsalterPahlavi:r SansRejang:r SansRunic:r SansSamaritan:r SansSaurashtra:r SansSharada:r
SansShavian:r SansSiddham:r SansSignWriting:r SansSinhala:br SansSogdian:r SansSoraSompeng:br SansSoyombo:r SansSundanese:br SansSylotiNagri:r
SansSymbols:br SansSymbols2:r SansSyriac:r SansTagalog:r SansTagbanwa:r SansTaiLe:r SansTaiTham:br SansTaiViet:r SansTakri:r SansTamil:br
SansTamilSupplement:r SansTelugu:br SansThaana:br SansThai:br SansTifinagh:r SansTirhuta:r SansUgaritic:r SansVai:r SansWancho:r SansWarangCiti:r
SansYi:r SansZanabazarSquare:r SerifAhom:r SerifArmenian:br SerifBalinese:r SerifBengali:br SerifDevanagari:br SerifDogra:r SerifEthiopic:br
SerifGeorgian:br SerifGrantha:r SerifGujarati:br SerifGurmukhi:br SerifHebrew:br SerifKannada:br SerifKhmer:br SerifKhojki:br SerifLao:br
SerifMalayalam:br SerifMyanmar:br SerifNyiakengPuachueHmong:br SerifSinhala:br SerifTamil:br SerifTamilSlanted:br SerifTangut:r SerifTelugu:br
SerifThai:br SerifTibetan:br SerifYezidi:br TraditionalNushu:r`

// system finds a family's styles by its name in lower case without spaces, such as notosansarabic.
var system = sync.OnceValue(func() map[string]stem {
	m := map[string]stem{}
	for word := range strings.FieldsSeq(families) {
		name, styles, _ := strings.Cut(word, ":")
		m["noto"+strings.ToLower(name)] = stem{"Noto" + name, strings.Contains(styles, "b"), strings.Contains(styles, "i")}
	}
	return m
})

type stem struct {
	name         string
	bold, italic bool
}

// scripts are the families' ends by the code of the script that they are for (ISO 15924), where there is one without serifs.
const scripts = `Adlm:Adlam Aghb:CaucasianAlbanian Arab:Arabic Armn:Armenian Armi:ImperialAramaic Avst:Avestan Bali:Balinese Bamu:Bamum Bass:BassaVah Batk:Batak
Beng:Bengali Bhks:Bhaiksuki Brah:Brahmi Bugi:Buginese Buhd:Buhid Cans:CanadianAboriginal Cari:Carian Cakm:Chakma Cham:Cham Cher:Cherokee
Copt:Coptic Xsux:Cuneiform Cprt:Cypriot Dsrt:Deseret Deva:Devanagari Dupl:Duployan Egyp:EgyptianHieroglyphs Elba:Elbasan Elym:Elymaic
Ethi:Ethiopic Geor:Georgian Glag:Glagolitic Goth:Gothic Gran:Grantha Gujr:Gujarati Gong:GunjalaGondi Guru:Gurmukhi Rohg:HanifiRohingya
Hano:Hanunoo Hatr:Hatran Hebr:Hebrew Phli:InscriptionalPahlavi Prti:InscriptionalParthian Java:Javanese Kthi:Kaithi Knda:Kannada Kali:KayahLi
Khar:Kharoshthi Khmr:Khmer Khoj:Khojki Sind:Khudawadi Laoo:Lao Lepc:Lepcha Limb:Limbu Lina:LinearA Linb:LinearB Lisu:Lisu Lyci:Lycian
Lydi:Lydian Mahj:Mahajani Mlym:Malayalam Mand:Mandaic Mani:Manichaean Marc:Marchen Gonm:MasaramGondi Medf:Medefaidrin Mtei:MeeteiMayek
Mend:MendeKikakui Mero:Meroitic Merc:Meroitic Plrd:Miao Modi:Modi Mong:Mongolian Mroo:Mro Mult:Multani Mymr:Myanmar Nkoo:NKo Nbat:Nabataean
Talu:NewTaiLue Newa:Newa Nshu:Nushu Ogam:Ogham Olck:OlChiki Hung:OldHungarian Ital:OldItalic Narb:OldNorthArabian Perm:OldPermic
Xpeo:OldPersian Sogo:OldSogdian Sarb:OldSouthArabian Orkh:OldTurkic Orya:Oriya Osge:Osage Osma:Osmanya Hmng:PahawhHmong Palm:Palmyrene
Pauc:PauCinHau Phag:PhagsPa Phnx:Phoenician Phlp:PsalterPahlavi Rjng:Rejang Runr:Runic Samr:Samaritan Saur:Saurashtra Shrd:Sharada Shaw:Shavian
Sidd:Siddham Sgnw:SignWriting Sinh:Sinhala Sogd:Sogdian Sora:SoraSompeng Soyo:Soyombo Sund:Sundanese Sylo:SylotiNagri Syrc:Syriac Tglg:Tagalog
Tagb:Tagbanwa Tale:TaiLe Lana:TaiTham Tavt:TaiViet Takr:Takri Taml:Tamil Telu:Telugu Thaa:Thaana Thai:Thai Tfng:Tifinagh Tirh:Tirhuta
Ugar:Ugaritic Vaii:Vai Wcho:Wancho Wara:WarangCiti Yiii:Yi Zanb:ZanabazarSquare Ahom:Ahom Dogr:Dogra Hmnp:NyiakengPuachueHmong Tang:Tangut
Tibt:Tibetan Yezi:Yezidi`

// byScript finds the end of a family by the code of a script.
var byScript = sync.OnceValue(func() map[string]string {
	m := map[string]string{}
	for word := range strings.FieldsSeq(scripts) {
		code, name, _ := strings.Cut(word, ":")
		m[code] = strings.ToLower(name)
	}
	return m
})

// cjk are the faces of the collections for Chinese, Japanese and Korean, in the collections' order.
var cjk = []string{"jp", "kr", "sc", "tc", "hk"}

const emojiFile = "NotoColorEmoji.ttf"

// A choice is a face that a text may be set in: of a file, with what must be made up for it.
type choice struct {
	file  string
	index int
	bold  bool // it isn't bold and is to be
	slant bool // it isn't slanted and is to be
}

// pick is a family's face of a weight and slant; ok is false where there is no such family.
func pick(family string, bold, italic bool) (c choice, ok bool) {
	key := strings.ToLower(strings.ReplaceAll(family, " ", ""))
	switch key {
	case "notocoloremoji", "emoji":
		return choice{file: emojiFile}, true
	case "go":
		return choice{file: goFile(bold, italic, false)}, true
	case "gomono", "monospace", "ui-monospace":
		return choice{file: goFile(bold, italic, true)}, true
	}
	if sans, is := strings.CutPrefix(key, "notosanscjk"); is {
		return cjkFace("Sans", sans, bold, italic)
	}
	if serif, is := strings.CutPrefix(key, "notoserifcjk"); is {
		return cjkFace("Serif", serif, bold, italic)
	}
	s, ok := system()[key]
	if !ok {
		return c, false
	}
	c.bold, c.slant = bold && !s.bold, italic && !s.italic
	style := "Regular"
	switch {
	case bold && s.bold && italic && s.italic:
		style = "BoldItalic"
	case italic && s.italic:
		style = "Italic"
	case bold && s.bold:
		style = "Bold"
	}
	c.file = s.name + "-" + style + ".ttf"
	return c, true
}

func cjkFace(kind, region string, bold, italic bool) (c choice, ok bool) {
	i := slices.Index(cjk, region)
	if i < 0 {
		return c, false
	}
	style := "Regular"
	if bold {
		style = "Bold"
	}
	return choice{file: "Noto" + kind + "CJK-" + style + ".ttc", index: i, slant: italic}, true
}

// goFile is the name by which one of the fonts that are built in goes.
func goFile(bold, italic, mono bool) string {
	i := 0
	for bit, set := range []bool{bold, italic, mono} {
		if set {
			i |= 1 << bit
		}
	}
	return "go:" + string(rune('0'+i))
}

// generic is the family that stands for one of CSS's generic ones (CSS Fonts Level 4, section 2.1.3).
func generic(family string) string {
	switch strings.ToLower(family) {
	case "sans-serif", "system-ui", "ui-sans-serif", "ui-rounded", "cursive", "fantasy", "math":
		return "Noto Sans"
	case "serif", "ui-serif":
		return "Noto Serif"
	case "fangsong":
		return "Noto Serif CJK SC"
	}
	return family
}

// A need is what a character needs of the fonts behind those that are asked for.
type need struct {
	script string
	emoji  bool
	symbol bool // of no script, and not of those that every font has
}

// ideographs are the scripts that go with Chinese characters.
var ideographs = map[string]bool{"Hani": true, "Hira": true, "Kana": true, "Hang": true, "Bopo": true}

func needOf(r rune, script string) need {
	n := need{script: script}
	if r >= 0x3000 && r < 0x1F000 && eastAsian(r) && !mayBeEmoji(r) && !ideographs[script] { // full stops, brackets and the like
		n.script = "Hani"
	}
	switch {
	case r < 0x2000 || script != "" && !unicode.IsSymbol(r):
	case r == 0x200D || r >= 0xFE00 && r <= 0xFE0F || leavesNothing(r):
	default:
		n.symbol = true
		n.emoji = mayBeEmoji(r)
	}
	return n
}

// behind are the faces for what the fonts asked for don't have, by script first.
func behind(n need, serif, bold, italic bool, lang string) (list []choice) {
	add := func(family string) {
		if c, ok := pick(family, bold, italic); ok && !slices.Contains(list, c) {
			list = append(list, c)
		}
	}
	code := n.script
	if end := byScript()[code]; end != "" {
		if serif {
			add("notoserif" + end)
		}
		add("notosans" + end)
		if len(list) == 0 {
			add("notoserif" + end)
		}
	}
	region := ""
	switch code {
	case "Hira", "Kana":
		region = "jp"
	case "Hang":
		region = "kr"
	case "Hani", "Bopo":
		region = regionOf(lang)
	}
	if n.symbol && region == "" && !n.emoji {
		add("notosanssymbols")
		add("notosanssymbols2")
		add("notosansmath")
		region = regionOf(lang)
	}
	if region != "" {
		if serif {
			add("notoserifcjk" + region)
		} else {
			add("notosanscjk" + region)
		}
	}
	if n.emoji {
		add("notosanssymbols")
		add("notosanssymbols2")
		add("emoji")
	}
	return list
}

// regionOf is whose forms of Chinese characters a language has.
func regionOf(lang string) string {
	lang = strings.ToLower(lang)
	switch {
	case strings.HasPrefix(lang, "ja"):
		return "jp"
	case strings.HasPrefix(lang, "ko"):
		return "kr"
	case strings.HasPrefix(lang, "zh-hk"), strings.HasPrefix(lang, "zh-mo"):
		return "hk"
	case strings.HasPrefix(lang, "zh-tw"), strings.HasPrefix(lang, "zh-hant"):
		return "tc"
	}
	return "sc"
}

// SystemFiles lists the files of system fonts that a text may need, the first of its families' first. Some of them may not be there.
func SystemFiles(content string, s Style) []string {
	var list []string
	add := func(c choice) {
		if !strings.HasPrefix(c.file, "go:") && !slices.Contains(list, c.file) {
			list = append(list, c.file)
		}
	}
	serif := false
	for i, family := range s.families() {
		serif = serif || i == 0 && isSerif(family)
		if c, ok := pick(generic(family), s.bold(), s.Italic); ok {
			add(c)
		}
	}
	seen := map[need]bool{}
	lang := s.languageOf(content)
	for _, r := range content {
		n := needOf(r, scriptOf(r))
		if seen[n] {
			continue
		}
		seen[n] = true
		for _, c := range behind(n, serif, s.bold(), s.Italic, lang) {
			add(c)
		}
	}
	return list
}

func isSerif(family string) bool {
	f := strings.ToLower(strings.ReplaceAll(family, " ", ""))
	return f == "serif" || f == "ui-serif" || strings.HasPrefix(f, "notoserif")
}
