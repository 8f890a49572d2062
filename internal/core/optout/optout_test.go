package optout

import "testing"

func TestWishes(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Wish{
		"STOP": Stop, "stop": Stop, " Stop. ": Stop, "“STOP”": Stop, "Stop!!!": Stop, "STOP ALL": Stop, "Stopp": Stop,
		"Abmelden": Stop,
		"ARRÊT":    Stop, "Désabonner": Stop, "BAJA": Stop, "Sair": Stop, "Basta": Stop, "Uitschrijven": Stop, "Avmeld": Stop,
		"Sluta": Stop, "Lopeta": Stop,
		"Koniec": Stop, "Zrušit": Stop, "ΤΕΛΟΣ": Stop, "Διακοπή": Stop, "İPTAL": Stop, "ret": Stop,
		"СТОП": Stop, "Відписатися": Stop, "बंद करें": Stop,
		"إلغاء": Stop, "配信停止": Stop, "ストップ": Stop, "ＳＴＯＰ": Stop,
		"START": Start, "Start, please": Nothing, "Anmelden": Start, "Reprendre": Start, "ALTA": Start, "Başla": Start,
		"Старт": Start, "再開": Start, "शुरू": Start,
		"": Nothing, "...": Nothing, "Thanks": Nothing, "The ferry does not stop there": Nothing,
		"Please do not stop": Nothing, "stopwatch": Nothing,
	} {
		if got := Of(text); got != want {
			t.Errorf("%q asks for %d, want %d", text, got, want)
		}
	}
	for word := range stops {
		if starts[word] {
			t.Errorf("%q asks for both", word)
		}
	}
}
