package conformance

import (
	"fmt"
	"math/rand/v2"
	"strings"

	"echolane/core/render"
	"echolane/service/workshop"
)

func readFonts(job *render.Job) error { return workshop.ReadFonts(job) }

// scripts are texts about kites, and the families that they are set in.
var scripts = []struct{ name, families, rule, text string }{
	{"latin", "Noto Sans", "", "Twelve delta kites, sewn by hand in the loft above the harbour, fly best in a steady breeze of four to five."},
	{"latin-serif", "Noto Serif", "", "A kite's bridle is tied where keel and spar meet; move the knot a finger's breadth and the nose drops."},
	{"german", "Noto Sans", "", "Großer Drachenflügel mit Querspreizen aus Kohlefaser, Straße und Maß: weiß, gelb und grün gefärbt"},
	{"greek", "Noto Sans", "", "Ο χαρταετός πετάει ψηλά πάνω από τη θάλασσα την Καθαρά Δευτέρα με τον άνεμο του νοτιά"},
	{"cyrillic", "Noto Sans", "", "Воздушный змей летит над морем, когда дует ровный ветер, и тень его бежит по песку"},
	{"vietnamese", "Noto Sans", "", "Những cánh diều bay cao trên bầu trời mùa hè, tiếng sáo diều vi vu trong gió chiều"},
	{"arabic", "Noto Sans, Noto Sans Arabic", "direction: rtl", "الطائرة الورقية تحلق عالياً فوق الشاطئ في يوم عاصف، والخيط طويل جداً بين الأصابع"},
	{"persian", "Noto Sans, Noto Sans Arabic", "direction: rtl", "بادبادک سرخ بر فراز دریا می‌رقصد و نخ آن در دست کودک است"},
	{"hebrew", "Noto Sans, Noto Sans Hebrew", "direction: rtl", "העפיפון האדום עף גבוה מעל הים ביום של רוח חזקה והילדים רצים על החול"},
	{"devanagari", "Noto Sans, Noto Sans Devanagari", "", "लाल पतंग समुद्र के ऊपर ऊँची उड़ रही है और बच्चे रेत पर दौड़ रहे हैं, हवा तेज़ है"},
	{"bengali", "Noto Sans, Noto Sans Bengali", "", "লাল ঘুড়ি সমুদ্রের উপরে উঁচুতে উড়ছে আর শিশুরা বালির উপর দৌড়াচ্ছে"},
	{"tamil", "Noto Sans, Noto Sans Tamil", "", "சிவப்பு பட்டம் கடலின் மேல் உயரமாக பறக்கிறது, குழந்தைகள் மணலில் ஓடுகிறார்கள்"},
	{"thai", "Noto Sans, Noto Sans Thai", "", "ว่าวสีแดงบินสูงเหนือทะเลในวันที่ลมแรงและเด็กๆวิ่งเล่นบนหาดทราย"},
	{"georgian", "Noto Sans, Noto Sans Georgian", "", "წითელი ფრანი მაღლა დაფრინავს ზღვის თავზე და ბავშვები ქვიშაზე დარბიან"},
	{"armenian", "Noto Sans, Noto Sans Armenian", "", "Կարմիր թռուցիկը բարձր թռչում է ծովի վրայով, և երեխաները վազում են ավազի վրա"},
	{"ethiopic", "Noto Sans, Noto Sans Ethiopic", "", "ቀይ ካይት ከባሕሩ በላይ ከፍ ብሎ ይበራል ልጆችም በአሸዋ ላይ ይሮጣሉ"},
	{"chinese", "Noto Sans CJK SC", "", "红色的风筝在大风天里高高地飞在海面上，孩子们在沙滩上奔跑，线很长。"},
	{"japanese", "Noto Sans CJK JP", "", "風の強い日に赤い凧が海の上を高く飛び、子どもたちは砂浜を走っている。"},
	{"korean", "Noto Sans CJK KR", "", "바람이 센 날 빨간 연이 바다 위로 높이 날고 아이들은 모래밭을 달린다"},
	{"mixed", "Noto Sans, Noto Sans Hebrew, Noto Sans Arabic", "", "Kite עפיפון 12, and الطائرة again: (עברית) 3.5 m"},
	{"emoji", "Noto Sans, Noto Color Emoji", "", "Up it goes 🪁 over the sea 🌊 with 👩🏽‍🚀 and 🇯🇵"},
	{"address", "Noto Sans", "", "Write to loft@kestrel.test or look at https://kestrel.test/kites/delta-red?size=large, open 9-17h, A/B test"},
}

// texts are the cases of text: every script at several sizes and widths, and every property.
func texts() (list []Layered) {
	const slot = "background-color: #eef2f7; opacity: 1"
	for _, s := range scripts {
		for i, how := range []string{"font-size: 22px; width: 320px; left: 12px; top: 10px", "font-size: 15px; width: 190px; left: 20px; top: 8px; line-height: 1.4", "font-size: 34px; width: 400px; left: 8px; top: 6px; line-height: 1.1; color: #fff; background-color: #1b2a41"} {
			list = append(list, Layered{
				Name: fmt.Sprintf("%s %d", s.name, i+1), W: 420, H: 300, Slot: slot,
				Layers: []Box{{Rule: "inset: 0; background-color: #eef2f7"}, {Rule: "font-family: " + s.families + ";" + how + ";" + s.rule, Text: s.text}},
			})
		}
	}
	const words = "Twelve delta kites, sewn by hand in the loft above the harbour, fly best in a steady breeze"
	const arabic = "الطائرة الورقية تحلق عالياً فوق الشاطئ في يوم عاصف والخيط طويل"
	for _, p := range []struct{ name, rule, text string }{
		{"bold", "font-weight: bold", words}, {"italic", "font-style: italic", words}, {"bold italic", "font: italic bold 21px/1.3 Noto Serif", words},
		{"weight 600", "font-weight: 600", words}, {"weight 500", "font-weight: 500", words},
		{"a slanted face made up", "font-family: Noto Sans Hebrew; font-style: italic", "העפיפון האדום עף גבוה"},
		{"letters spaced", "letter-spacing: 2px", words}, {"letters close", "letter-spacing: -0.03em", words}, {"letters spaced, Arabic", "letter-spacing: 3px; direction: rtl; font-family: Noto Sans Arabic", arabic},
		{"ligatures spaced", "letter-spacing: 1px; font-family: Noto Serif", "fine offices fly off"}, {"ligatures", "font-family: Noto Serif", "fine offices fly off"},
		{"words spaced", "word-spacing: 8px", words},
		{"right", "text-align: right", words}, {"center", "text-align: center", words}, {"justify", "text-align: justify", words}, {"end", "text-align: end", words},
		{"rtl start", "direction: rtl; font-family: Noto Sans Arabic", arabic}, {"rtl end", "direction: rtl; text-align: end; font-family: Noto Sans Arabic", arabic}, {"rtl justify", "direction: rtl; text-align: justify; font-family: Noto Sans Arabic", arabic},
		{"latin in rtl", "direction: rtl", "Kites (red, blue) & twine: 12.5 m!"}, {"justify CJK", "text-align: justify; font-family: Noto Sans CJK JP", "風の強い日に赤い凧が海の上を高く飛び、子どもたちは砂浜を走っている。"},
		{"brackets meet", "font-family: Noto Sans CJK JP; width: 210px", "「凧」（赤）、『糸』（麻）。：「風」・「海」《砂》〈浜〉（「空」）"}, {"brackets meet, Chinese", "font-family: Noto Sans CJK SC; width: 210px", "“风筝”（红）、《线》（麻）。：“风”·“海”（“天”）！？；（好）"}, {"brackets at the end", "font-family: Noto Sans CJK JP; width: 150px", "赤い凧は「砂浜」と（海）の上を『高く』飛ぶ"}, {"brackets, right", "font-family: Noto Sans CJK JP; width: 150px; text-align: right", "赤い凧は「砂浜」と（海）の上を『高く』飛ぶ"},
		{"uppercase", "text-transform: uppercase", "Straße, naïve kites ﬁne"}, {"lowercase", "text-transform: lowercase", "ΟΔΥΣΣΕΥΣ Kites"}, {"capitalize", "text-transform: capitalize", "the kite-maker's loft, o'clock ąžuolas"},
		{"balance", "text-wrap: balance", words}, {"balance two", "text-wrap: balance; text-align: center", "Spring sale on all delta kites this week"}, {"nowrap", "text-wrap: nowrap", words},
		{"pre", "white-space: pre", "a  b\n   c\td"}, {"pre-wrap", "white-space: pre-wrap", "one   two three   four five six seven eight\nnine ten"}, {"normal", "white-space: normal", "one\ntwo   three\nfour"}, {"pre-line", "white-space: pre-line", "one   two\n\n  three"},
		{"break-word", "overflow-wrap: break-word", "Rindfleischetikettierungsüberwachungsaufgabenübertragungsgesetz and more"}, {"a long word", "", "Rindfleischetikettierungsüberwachungsaufgabenübertragungsgesetz and more"},
		{"anywhere", "overflow-wrap: anywhere; width: 90px", "internationalization of kites"},
		{"soft hyphens", "", "ex\u00adtra\u00ador\u00addi\u00adnary kites are a re\u00admark\u00adable sight in\u00addeed"}, {"hyphens none", "hyphens: none", "ex\u00adtra\u00ador\u00addi\u00adnary kites are a re\u00admark\u00adable sight in\u00addeed"},
		{"shadow", "text-shadow: 2px 3px 4px rgb(0 0 0 / 60%)", words}, {"two shadows", "text-shadow: 0 0 2px white, 3px 3px 0 #c00; color: #123", words},
		{"stroke", "-webkit-text-stroke: 2px #c00; font-size: 40px", "Kites"}, {"stroke alone", "-webkit-text-stroke: 1px black; color: transparent; font-size: 44px", "Twine"},
		{"underline", "text-decoration: underline", words}, {"underline colour", "text-decoration: underline #c00; font-size: 30px", "flying quickly"}, {"all lines, 36", "text-decoration: underline overline line-through #c00; font-size: 36px; line-height: 1.5", "flying quickly"}, {"all lines, 16", "text-decoration: underline overline line-through #c00; font-size: 16px; line-height: 1.5", "flying quickly"}, {"line-through", "text-decoration: line-through", words}, {"overline", "text-decoration: overline", words},
		{"line-height", "line-height: 2", words}, {"line-height px", "line-height: 21px", words}, {"line-height tight", "line-height: 0.9", words}, {"size large", "font-size: 96px; width: 400px", "Kites"}, {"size small", "font-size: 9px", words},
		{"half transparent", "color: rgb(200 0 0 / 50%)", words}, {"padding", "padding: 10px 24px 6px 12px; background-color: #fff8", words}, {"border", "border: 3px solid #246; border-radius: 12px; padding: 6px", words},
		{"opacity", "opacity: .5", words}, {"rotate", "rotate: -8deg", words}, {"blur", "filter: blur(2px)", words}, {"multiply", "mix-blend-mode: multiply; color: #c60", words},
		{"gradient ground", "background-image: linear-gradient(90deg, #fc3, #f60); padding: 8px", words}, {"align-content", "height: 200px; align-content: center", words}, {"align end", "height: 200px; align-content: end; text-align: right", words},
		{"emoji in words", "font-family: Noto Sans, Noto Color Emoji; font-size: 26px", "A 🪁 and ☀️ and ✈ and ❤️"}, {"family emoji", "font-family: Noto Color Emoji; font-size: 40px", "👨‍👩‍👧‍👦🏳️‍🌈"},
		{"combining", "", "ā̊ e\u0301 n\u0303 ỗ"}, {"zero width", "", "kite\u200bmaker\u200bloft\u200bharbour\u200bbreeze\u200bfestival"}, {"no-break space", "", "12\u00a0kites and 300\u00a0metres of twine on 4\u00a0reels in\u00a0all"},
		{"quotes", "", "“Kites”, said «she» — ‘twine’… and (more) [too] {yet}"}, {"numbers", "", "1,234.56 + 7/8 × 3% = €12.00; +49 40 123-456; 2027-05-01"}, {"sharp s", "text-transform: uppercase; font-family: Noto Serif", "ẞ ß ŉ ǰ"},
	} {
		least := 0.0
		list = append(list, Layered{Name: p.name, Least: least, W: 420, H: 300, Slot: slot, Layers: []Box{{Rule: "inset: 0; background-color: #eef2f7"}, {Rule: "left: 10px; top: 12px; width: 300px; font-size: 20px;" + p.rule, Text: p.text}}})
	}
	return list
}

// columns are the cases of vertical writing.
func columns() (list []Layered) {
	const japanese = "風の強い日に赤い凧が海の上を高く飛び、子どもたちは「砂浜」を走っている。2027年にはKiteが12枚もあがった。"
	const chinese = "红色的风筝在大风天里高高地飞在海面上，孩子们在沙滩上奔跑，线很长。"
	const korean = "바람이 센 날 빨간 연이 바다 위로 높이 날고 아이들은 모래밭을 달린다"
	const jp, sc, kr = "font-family: Noto Sans, Noto Sans CJK JP;", "font-family: Noto Sans CJK SC;", "font-family: Noto Sans CJK KR;"
	const box = "left: 30px; top: 12px; width: 360px; height: 260px; font-size: 20px;"
	for _, p := range []struct{ name, rule, text string }{
		{"japanese", jp + box, japanese}, {"japanese alone", "font-family: Noto Sans CJK JP;" + box, japanese}, {"chinese", sc + box, chinese}, {"korean", kr + box, korean},
		{"words", box, "Twelve delta kites, sewn by hand in the loft above the harbour, fly best in a steady breeze of four to five."},
		{"left to right", "writing-mode: vertical-lr;" + jp + box, japanese}, {"small", jp + "left: 10px; top: 10px; width: 200px; height: 150px; font-size: 13px; line-height: 1.7", japanese},
		{"large", "font-family: Noto Serif CJK JP; left: 20px; top: 10px; width: 380px; height: 280px; font-size: 46px; line-height: 1.1", "凧あげ大会、秋の空"},
		{"as high as it needs", jp + "right: 20px; top: 12px; font-size: 24px", "凧の店"}, {"in the middle", jp + box + "text-align: center; align-content: center", "凧の店\n二〇二七年"},
		{"at the end", jp + box + "text-align: end; align-content: end", "凧の店\n二〇二七年"}, {"justify", "font-family: Noto Sans CJK JP; text-align: justify;" + box, japanese},
		{"letters spaced", jp + box + "letter-spacing: 3px", japanese}, {"upright", "text-orientation: upright;" + jp + box, "凧 Kite 12"}, {"sideways", "text-orientation: sideways;" + jp + box, "凧とKite 12枚。"},
		{"bold", jp + box + "font-weight: bold; color: #a00", "赤い凧と青い凧"}, {"padding", jp + box + "padding: 10px 24px 6px 12px; background-color: #fff8; border: 2px solid #246", japanese},
		{"shadow", jp + box + "text-shadow: 2px 3px 4px rgb(0 0 0 / 60%)", "赤い凧と青い凧"}, {"stroke", jp + box + "-webkit-text-stroke: 1.5px #c00; font-size: 44px", "凧 Kite"},
		{"arabic", "font-family: Noto Sans, Noto Sans Arabic; direction: rtl;" + box, "الطائرة الورقية تحلق عالياً فوق الشاطئ في يوم عاصف"}, {"emoji", "font-family: Noto Sans, Noto Sans CJK JP, Noto Color Emoji;" + box, "凧🪁が海🌊の上"},
		{"quotes and dashes", "font-family: Noto Sans CJK JP;" + box, "「凧」——『糸』（赤）…〜ー。、ッャ"}, {"clamp", jp + "left: 30px; top: 12px; width: 360px; height: 150px; font-size: 20px; line-height: 1.5; font-variation-settings: normal", japanese},
		{"underline", jp + box + "text-decoration: underline #c00", "赤い凧と青い凧"}, {"all lines, 36", jp + box + "text-decoration: underline overline line-through #c00; font-size: 36px; line-height: 1.5", "赤い凧と青い凧"}, {"all lines, 15", jp + box + "text-decoration: underline overline line-through #c00; font-size: 15px; line-height: 1.5", "赤い凧と青い凧"}, {"overline", jp + box + "text-decoration: overline #c00", "赤い凧と青い凧"}, {"line-through", jp + box + "text-decoration: line-through #c00", "赤い凧と青い凧"},
		{"underline of words", box + "text-decoration: underline #c00", "flying kites quickly"}, {"rotate", jp + box + "rotate: 8deg", "赤い凧と青い凧"},
	} {
		rule := p.rule
		if !strings.Contains(rule, "writing-mode") {
			rule = "writing-mode: vertical-rl;" + rule
		}
		list = append(list, Layered{Name: "vertical " + p.name, W: 420, H: 300, Slot: "background-color: #eef2f7", Layers: []Box{{Rule: "inset: 0; background-color: #eef2f7"}, {Rule: rule, Text: p.text}}})
	}
	return list
}

// randomTexts are words of every script in styles at random.
func randomTexts(r *rand.Rand, n int) (list []Layered) {
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	for i := range n {
		s := scripts[r.IntN(len(scripts))]
		words := strings.Fields(s.text)
		if len(words) > 3 {
			r.Shuffle(len(words), func(a, b int) { words[a], words[b] = words[b], words[a] })
			words = words[:2+r.IntN(len(words)-2)]
		}
		size := 11 + r.IntN(30)
		if cjk := strings.Contains(s.families, "CJK"); cjk && r.IntN(3) == 0 {
			s.rule = pick("writing-mode: vertical-rl; height: 200px", "writing-mode: vertical-rl; height: 330px", "writing-mode: vertical-lr; height: 270px")
			s.name += " vertical"
		}
		rule := fmt.Sprintf("font-family: %s; font-size: %dpx; width: %dpx; left: %dpx; top: %dpx; %s", s.families, size, 120+r.IntN(280), r.IntN(20), r.IntN(20), s.rule)
		rule += pick("", "; font-weight: bold", "; font-weight: 600", "; text-align: center", "; text-align: end", "; text-align: right")
		rule += pick("", "; line-height: 1.2", "; line-height: 1.6", "; line-height: 30px")
		spaced := "; letter-spacing: 1px"
		if s.name == "mixed" { // which side of a letter the space is on where directions meet isn't said
			spaced = ""
		}
		rule += pick("", spaced, "; word-spacing: 5px", "; padding: 4px 9px")
		rule += pick("", "; color: #1b4", "; color: #a00", "; color: white; background-color: #123", "; color: #0008")
		list = append(list, Layered{Name: fmt.Sprintf("random %d: %s, %s", i, s.name, rule), W: 440, H: 420, Slot: "background-color: #eef2f7", Layers: []Box{{Rule: "inset: 0; background-color: #eef2f7"}, {Rule: rule, Text: strings.Join(words, " ")}}})
	}
	return list
}
