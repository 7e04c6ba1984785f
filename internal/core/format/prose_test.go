package format

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// prose are sentences of a harbour in six languages. {m} stands for a month as that language writes it, {d} for a
// day's name, {n} for a number. None of them names a day with its year, or a day with a time of day.
var prose = map[string]struct {
	months, days string
	sentences    []string
}{
	"English": {
		"january february march april may june july august september october november december Mar Sept",
		"Monday tue wed Thursday fri sat sun",
		[]string{
			"The boats may {n} times a day march past the pier, and nobody counts {n} of them.",
			"In {m} {n} the crew sat on the {d} deck; may {n} come back in {m}.", "On {d} {n} people wed on board, " +
				"and {n} fri-{n} sun seats stay free.",
			"We set {n} lamps in {m}, {n} more on {d}, at 6:{n} in the morning.", "Between {n} {m} and {n} {m} the " +
				"fare is 3.{n}, which is {n} % less.", "Gate {n}, lane {n}: {n} cars, {n}-{n} metres, 1.{n}.{n} of " +
				"them heavy.", "March {n} miles, then ask at window {n}; may be {n} hours."},
	},
	"German": {
		"Januar Februar März April Mai Juni Juli August September Oktober November Dezember Mär Mrz",
		"Montag Di Mi Do Fr Sa So",
		[]string{
			"Am {n}. {m} fährt das Schiff so {n} Mal, im {m} nur {n} Mal.", "Mi {n} war der Wind stark, do {n} " +
				"Boote blieben im Hafen.", "Im {m} {n} Karten, im {m} {n} Kisten, um 6.{n} Uhr die erste.",
			"Die Fahrt kostet 3,{n} Euro, am {d} {n} Prozent weniger.", "Sa {n} kamen {n} Gäste, so {n} wie im {m}.",
			"Zwischen dem {n}. und {n}. {m} liegt das Schiff {n} Tage im Dock.", "Tor {n}, Spur {n}: {n} Wagen, " +
				"{n}-{n} Meter."},
	},
	"French": {
		"janvier février mars avril mai juin juillet août septembre octobre novembre décembre",
		"lundi mar mer jeu vendredi sam dim",
		[]string{
			"La mer {n} fois par jour couvre la rampe, et {n} bateaux partent en {m}.", "Le {n} {m} et le {n} {m} " +
				"le quai ferme à 6 h {n}.", "Mar {n} passagers, mer {n}, jeu {n}: c'est peu pour un {d}.",
			"On a vu {n} sacs mars {n}, puis {n} en {m} {n}.", "Le prix est de 3,{n} euros, soit {n} % de moins en " +
				"{m}.", "Ven {n} camions, sam {n}, dim {n} voitures de {n}-{n} mètres.",
			"Porte {n}, voie {n}: {n} autos."},
	},
	"Spanish": {
		"enero febrero marzo abril mayo junio julio agosto septiembre octubre noviembre diciembre",
		"lun mar mié jue vie sáb dom",
		[]string{
			"El mar {n} veces al día sube, y {n} barcos salen en {m}.", "El {n} de {m} y el {n} de {m} la puerta " +
				"{n} queda cerrada.", "Dom {n} viajeros, mar {n}, jue {n}; en {m} {n} más.",
			"La tarifa es de 3,{n} euros, un {n} % menos en {m}.", "Entre el {n} y el {n} de {m} el barco pasa {n} " +
				"días en el dique.", "Mar {n} millas, dic {n} cajas, ene {n} bultos.", "Puerta {n}, carril {n}: {n} " +
				"coches, {n}-{n} metros."},
	},
	"Italian": {
		"gennaio febbraio marzo aprile maggio giugno luglio agosto settembre ottobre novembre dicembre",
		"lun mar mer gio ven sab dom",
		[]string{
			"Il mare sale {n} volte, e {n} barche partono in {m}.", "Set {n} lampade, ago {n} fili, mar {n} miglia.",
			"Il {n} {m} e il {n} {m} il molo {n} resta chiuso.",
			"Dom {n} passeggeri, lun {n}, gio {n}; in {m} {n} in più.",
			"La tariffa è di 3,{n} euro, il {n} % in meno.", "Mag {n} casse, ott {n} sacchi, dic {n} bidoni da " +
				"{n}-{n} chili.", "Porta {n}, corsia {n}: {n} auto."},
	},
	"Polish": {
		"stycznia lutego marca kwietnia maja czerwca lipca sierpnia września października listopada grudnia",
		"pon wto śro czw pią sob nie",
		[]string{
			"Statek płynie {n} razy dziennie, w {m} tylko {n} razy.", "Nie {n} osób, sob {n}, pią {n}; lis {n} na " +
				"brzegu, maj {n} na wodzie.", "Od {n} do {n} {m} brama {n} jest zamknięta.",
			"Bilet kosztuje 3,{n} złotego, o {n} % mniej w {m}.", "Gru {n} skrzyń, sty {n} worków, cze {n} beczek " +
				"po {n}-{n} kilo.", "W {m} {n} statków, w {m} {n} łodzi, o 6.{n} rano pierwsza.",
			"Brama {n}, pas {n}: {n} aut."},
	},
}

// TestWordsAreNoDates: ten kilobytes of prose hold no stamp, wherever in it one looks; a number alone may count
// seconds.
func TestWordsAreNoDates(t *testing.T) {
	t.Parallel()
	for language, of := range prose {
		r := rand.New(rand.NewPCG(7, uint64(len(language))))
		pick := func(words string) string { all := strings.Fields(words); return all[r.IntN(len(all))] }
		numbers := []int{
			2,
			4,
			7,
			10,
			12,
			20,
			28,
			30,
			31,
			45,
			59,
			100,
			311,
			1200,
			1500,
			1745,
			2030,
			2031,
			2359,
			6015,
			20400,
			120000,
			235959,
		}
		var b strings.Builder
		for b.Len() < 10<<10 {
			s := of.sentences[r.IntN(len(of.sentences))]
			for strings.Contains(s, "{n}") {
				s = strings.Replace(s, "{n}", fmt.Sprint(numbers[r.IntN(len(numbers))]), 1)
			}
			for strings.Contains(s, "{m}") {
				s = strings.Replace(s, "{m}", pick(of.months), 1)
			}
			for strings.Contains(s, "{d}") {
				s = strings.Replace(s, "{d}", pick(of.days), 1)
			}
			b.WriteString(s + " ")
		}
		text := b.String()
		for i := range len(text) {
			if v, n, ok := recognise([]byte(text[i:])); ok && !v.isEpoch && !isYearedDate(text[i:i+n]) {
				assert.Fail(
					t,
					language,
					"%q is taken for a stamp in %q",
					text[i:i+n],
					text[max(0, i-20):min(len(text), i+40)],
				)
				break
			}
		}
	}
}

// isYearedDate tells whether a text is a whole date: the sentences can come to "4 May 2031", which is one.
func isYearedDate(text string) bool {
	return strings.HasSuffix(text, "2030") || strings.HasSuffix(text, "2031")
}
