package sheet

import (
	"slices"
	"strings"
)

// words are what columns are called, folded, in the languages that sheets are written
// in: English, German, French, Spanish, Portuguese, Italian, Dutch, Danish, Norwegian,
// Swedish, Finnish, Polish, Czech, Slovak, Hungarian, Romanian, Croatian, Greek,
// Turkish, Russian, Ukrainian, Bulgarian, Hindi, Arabic and Japanese.
var words = map[Role][]string{
	To: split(`
		to, phone, phone number, phone no, telephone, telephone number, tel, tel no, mobile, mobile number, mobile phone, mobile no,
		cell, cell phone, cellphone, msisdn, number, recipient, recipient number, contact number, sms, e164, handy, handynummer,
		telefon, telefonnummer, mobil, mobilnummer, mobiltelefon, rufnummer, empfanger, nummer, telnr, tel nr, portable,
		telephone portable, numero, numero de telephone, destinataire, telefono, telefono movil, movil, celular, numero de telefono,
		destinatario, telemovel, numero de telemovel, cellulare, numero di telefono, numero cellulare, telefoon, telefoonnummer,
		mobiel, mobiel nummer, ontvanger, telefonnr, mobilnr, modtager, mottaker, mottagare, puhelin, puhelinnumero, matkapuhelin,
		kannykka, vastaanottaja, telefon komorkowy, komorka, numer telefonu, numer, odbiorca, telefonni cislo, cislo telefonu,
		mobilni telefon, prijemce, telefonne cislo, prijemca, telefonszam, mobilszam, cimzett, numar de telefon, numar telefon, mobil,
		destinatar, broj telefona, mobitel, broj mobitela, primatelj, τηλεφωνο, κινητο, κινητο τηλεφωνο,
		αριθμος, παραληπτης, telefon numarasi, cep telefonu, cep, gsm, alici, телефон,
		номер телефона, номер, мобильный, мобильный телефон, получатель,
		номер телефону, мобільний, отримувач, мобилен, мобилен телефон,
		телефонен номер, फोन, फ़ोन, फोन नंबर, मोबाइल,
		मोबाइल नंबर, मोबाइल नम्बर, نمبر, هاتف, رقم الهاتف, الهاتف,
		جوال, رقم الجوال, موبايل, 電話, 電話番号, 携帯, 携帯番号, 携帯電話`),
	Country: split(`
		country, country code, iso, nation, cc, land, landercode, landerkennung, landercode iso, staat, pays, code pays, pais,
		codigo de pais, paese, nazione, landcode, maa, maakoodi, kraj, kod kraju, zeme, stat, kod zeme, krajina, orszag, orszagkod,
		tara, cod tara, drzava, zemlja, χωρα, ulke, ulke kodu, страна, код страны, країна,
		код країни, държава, देश, بلد, البلد, الدولة, 国, 国コード`),
	Language: split(`
		language, lang, locale, language code, sprache, sprachcode, langue, idioma, lengua, lingua, taal, sprog, sprak, kieli, jezyk,
		jazyk, nyelv, limba, jezik, γλωσσα, dil, язык, мова, език, भाषा, اللغة, لغة, 言語`),
	At: split(`
		at, send at, time, date, date and time, datetime, local time, when, scheduled, schedule, send time, zeit, zeitpunkt, datum,
		uhrzeit, termin, sendezeit, heure, date et heure, envoi, date denvoi, hora, fecha, fecha y hora, fecha de envio, data,
		data e hora, data de envio, ora, data e ora, orario, tijd, tijdstip, datum en tijd, tid, tidspunkt, dato, aika, aikaleima,
		lahetysaika, czas, data i godzina, godzina, termin wysylki, cas, datum a cas, idopont, ido, kuldes ideje, data si ora, vrijeme,
		datum i vrijeme, ωρα, ημερομηνια, zaman, saat, tarih, gonderim zamani, время, дата,
		дата и время, час, дата і час, समय, तारीख, الوقت, التاريخ, 日時,
		送信日時`),
	Text: split(`
		text, message, message text, sms text, body, content, nachricht, nachrichtentext, mitteilung, texte, contenu, mensaje, texto,
		mensagem, messaggio, testo, bericht, tekst, besked, melding, meddelande, viesti, teksti, wiadomosc, tresc, tresc wiadomosci,
		zprava, sprava, uzenet, szoveg, mesaj, poruka, μηνυμα, κειμενο, metin, mesaj metni, сообщение,
		текст, повідомлення, съобщение, संदेश, نص, الرسالة, رسالة, メッセージ,
		本文`),
	Reference: split(`
		reference, ref, id, order, order id, order no, order number, customer id, customer number, customer no, client id, booking,
		booking number, booking ref, external id, external reference, your reference, referenz, bestellnummer, bestellung,
		auftragsnummer, auftrag, kundennummer, buchungsnummer, kunden id, reference client, numero de commande, commande,
		numero client, referencia, pedido, numero de pedido, n de pedido, cliente id, numero de cliente, encomenda, riferimento,
		ordine, numero ordine, codice cliente, referentie, bestelnummer, klantnummer, ordrenummer, kundenummer, ordernummer,
		kundnummer, viite, tilausnumero, asiakasnumero, numer zamowienia, zamowienie, numer klienta, cislo objednavky, cislo zakaznika,
		rendelesszam, ugyfelszam, numar comanda, broj narudzbe, αναφορα, αριθμος παραγγελιας,
		κωδικος πελατη, referans, siparis no, siparis numarasi, musteri no, номер заказа, заказ,
		код клиента, номер замовлення, номер на поръчка, ऑर्डर नंबर, مرجع,
		رقم الطلب, 注文番号, 顧客番号`),
	Name: split(`
		name, full name, first name, given name, surname, last name, family name, customer, customer name, passenger, contact, vorname,
		nachname, kunde, kundenname, fahrgast, nom, prenom, nom complet, client, passager, nombre, nombre completo, apellido,
		apellidos, cliente, pasajero, nome, nome completo, apelido, sobrenome, passageiro, cognome, nominativo, passeggero, naam,
		voornaam, achternaam, klant, navn, fornavn, etternavn, efternavn, namn, fornamn, efternamn, nimi, etunimi, sukunimi, imie,
		nazwisko, imie i nazwisko, jmeno, prijmeni, meno, priezvisko, nev, keresztnev, vezeteknev, nume, prenume, ime, prezime,
		ime i prezime, ονομα, ονοματεπωνυμο, επωνυμο, ad, isim, soyad, ad soyad, adi soyadi, имя,
		фамилия, фио, імя, прізвище, име, фамилно име, नाम, اسم, الاسم, 名前, 氏名,
		お名前`),
}

func split(all string) []string {
	list := strings.Split(all, ",")
	for i := range list {
		list[i] = fold(list[i])
	}
	return list
}

// groupWords are what a column of groups is called, in the same languages.
var groupWords = split(
	`group, groups, tag, tags, gruppe, gruppen, groupe, groupes, grupo, grupos, gruppo, gruppi, groep, groepen, grupper, grupp,
	ryhma, ryhmat, grupa, grupy, skupina, skupiny, csoport, csoportok, grup, grupuri, grupe, ομαδα, ομαδες, gruplar,
	группа, группы, група, групи, समूह, مجموعة, المجموعة, グループ`,
)

// HoldsGroups reports whether a column is called as one that says which groups somebody is in.
func HoldsGroups(head string) bool { return slices.Contains(groupWords, fold(head)) }

// ReadGroups reads the groups in a cell: with commas, semicolons or bars between.
func ReadGroups(cell string) (groups []string) {
	for one := range strings.FieldsFuncSeq(cell, func(r rune) bool { return strings.ContainsRune(",;|\n", r) }) {
		if one = strings.TrimSpace(one); one != "" {
			groups = append(groups, one)
		}
	}
	return groups
}
