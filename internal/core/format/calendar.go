package format

import (
	"bytes"
)

// longestName bounds the name of a month, in bytes.
const longestName = 24

// letters is how long the word at the front of p is, also of other alphabets than English.
func letters(p []byte) int {
	n := 0
	for n < len(p) && n < longestName && (p[n]|0x20 >= 'a' && p[n]|0x20 <= 'z' || p[n] >= 0x80) {
		n++
	}
	return n
}

func lower(p []byte, buf *[longestName]byte) []byte {
	for i, c := range p {
		if c >= 0x80 {
			return bytes.ToLower(p)
		}
		buf[i] = c | 0x20
	}
	return buf[:len(p)]
}

// dayName is how long the name of a day is at the front of p; 0 for none.
func dayName(p []byte) int {
	var buf [longestName]byte
	if n := letters(p); n >= 2 && weekdays[string(lower(p[:n], &buf))] {
		return n
	}
	return 0
}

// monthName is the month that is named at the front of p, and how long its name is; 0 for none.
func monthName(p []byte) (month, n int) {
	var buf [longestName]byte
	if n = letters(p); n < 3 {
		return 0, 0
	}
	return monthsOfTheWorld[string(lower(p[:n], &buf))], n
}

// monthsOfTheWorld are names of months in many languages of Europe, in lower case; where two disagree, the larger one
// counts.
var monthsOfTheWorld = func() map[string]int {
	m := map[string]int{}
	for i, names := range []string{
		"january jan januar jänner januari janvier janv enero ene janeiro gennaio gen января январь янв stycznia " +
			"styczeń sty januar januari led ledna ianuarie ian ocak oca tammikuuta tammi január",
		"february feb februar februari février févr fevrier fevr febrero fevereiro fev febbraio февраля февраль фев " +
			"lutego luty lut februari únor února úno februarie şubat şub helmikuuta helmi február febr",
		"march mar märz mär mrz maart mrt mars marzo março marco марта март мар marca marzec mars březen března bře " +
			"martie mart maaliskuuta maalis március márc",
		"april apr avril avr abril abr aprile апреля апрель апр kwietnia kwiecień kwi duben dubna dub aprilie nisan " +
			"nis huhtikuuta huhti április ápr",
		"may mai mei mayo maio maggio mag мая май maja maj květen května kvě mayıs toukokuuta touko május máj",
		"june jun juni juin junio junho giugno giu июня июнь июн czerwca czerwiec cze červen června čvn iunie iun " +
			"haziran haz kesäkuuta kesä június jún",
		"july jul juli juillet juil julio julho luglio lug июля июль июл lipca lipiec lip července červenec čvc " +
			"iulie iul temmuz tem heinäkuuta heinä július júl",
		"august aug augustus août aout agosto ago августа август авг sierpnia sierpień sie augusti srpen srpna srp " +
			"ağustos ağu elokuuta elo augusztus",
		"september sep sept septembre septiembre setembro set settembre сентября сентябрь сен сент września " +
			"wrzesień wrz září zář septembrie eylül eyl syyskuuta syys szeptember szept",
		"october oct oktober okt octobre octubre outubro out ottobre ott октября октябрь окт października " +
			"październik paź říjen října říj octombrie ekim eki lokakuuta loka október",
		"november nov novembre noviembre novembro ноября ноябрь ноя listopada listopad lis noiembrie noi kasım kas " +
			"marraskuuta marras",
		"december dec dezember dez décembre déc decembre diciembre dic dezembro dicembre декабря декабрь дек " +
			"grudnia grudzień gru prosinec prosince pro decembrie desember des aralık ara joulukuuta joulu",
	} {
		for _, name := range bytes.Fields([]byte(names)) {
			m[string(name)] = i + 1
		}
	}
	return m
}()

// weekdays are names of days in the same languages.
var weekdays = func() map[string]bool {
	m := map[string]bool{}
	for _, name := range bytes.Fields([]byte(`mon tue tues wed thu thur thurs fri sat sun monday tuesday wednesday thursday friday saturday sunday
		mo di mi do fr sa so montag dienstag mittwoch donnerstag freitag samstag sonntag lun mar mer jeu ven sam dim lundi mardi mercredi jeudi vendredi samedi dimanche
		mié jue vie sáb dom lunes martes miércoles jueves viernes sábado domingo seg ter qua qui sex gio sab ma woe don vri zat zon
		пн вт ср чт пт сб вс понедельник вторник среда четверг пятница суббота воскресенье pon wto wt śr śro czw pt pią sob nie niedz mån tis ons tor fre lör sön man lør søn po út st čt pá so ne pzt sal çar per cum cmt paz`)) {
		m[string(name)] = true
	}
	return m
}()

// zoneNames are abbreviations of zones that mean one offset almost everywhere, in minutes east of UTC.
var zoneNames = map[string]int{
	"UTC":  0,
	"GMT":  0,
	"UT":   0,
	"WET":  0,
	"WEST": 60,
	"BST":  60,
	"CET":  60,
	"MEZ":  60,
	"CEST": 120,
	"MESZ": 120,
	"EET":  120,
	"EEST": 180,
	"MSK":  180,
	"JST":  540,
	"KST":  540,
	"AEST": 600,
	"AEDT": 660,
	"NZST": 720,
	"NZDT": 780,
	"EST":  -300,
	"EDT":  -240,
	"CST":  -360,
	"CDT":  -300,
	"MST":  -420,
	"MDT":  -360,
	"PST":  -480,
	"PDT":  -420,
	"AKST": -540,
	"AKDT": -480,
	"HST":  -600,
}

// Dated tells whether a text begins with a stamp that names a day, and not only a time of day.
func Dated(text []byte) bool {
	c, _, ok := recognise(text)
	return ok && !c.noDate
}

// Recognise tells how many bytes of a text's front are a time stamp; ok is false when there is none.
func Recognise(p []byte) (n int, ok bool) {
	_, n, ok = recognise(p)
	return n, ok
}
