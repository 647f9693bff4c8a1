package paper

import "fmt"

// words are what stands on papers, in the languages that they can be in; English is what they are called by here.
var words = map[string]map[string]string{
	"de": {
		"Round %s": "Runde %s", "%d into slot %d": "%d in Fach %d",
		"Packing slip %s": "Packzettel %s", "Order %s": "Auftrag %s", "Your number %s": "Ihre Nummer %s",
		"Codes to scan": "Codes zum Scannen", "Take back": "Zurücknehmen", "Takes the last scan back": "Nimmt den letzten Scan zurück",
		"Next carton": "Nächster Karton", "Done": "Fertig", "To stock": "Ins Lager", "To be looked at": "Zur Prüfung",
		"Written off": "Abgeschrieben", "Of what comes back: what is scanned now": "Von Retouren: was jetzt gescannt wird",
		"Packs what was scanned into the proposed carton":             "Packt Gescanntes in den vorgeschlagenen Karton",
		"Goes on: from picking to packing, from packing to the label": "Weiter: vom Picken zum Packen, dann zum Etikett",
		"Parcel %s": "Paket %s", "Units": "Stück", "Sum": "Summe", "Together": "Zusammen",
		"Pick list %s": "Pickliste %s", "%d pick lists": "%d Picklisten", "Printed %s · page %d": "Gedruckt %s · Seite %d",
		"For %s": "Für %s", "Channel number %s": "Nummer des Kanals %s", "Wished: %s": "Gewünscht: %s", "Note: %s": "Notiz: %s",
		"Put in: %s": "Beilegen: %s", "Bin": "Fach", "Product": "Artikel", "Scan": "Scannen", "Take": "Nehmen", "Label %s": "Etikett %s",
		"Cut along the line and glue the label on the parcel.": "An der Linie ausschneiden und das Etikett auf das Paket kleben.",
		"Order %s, shipment %s":                                "Auftrag %s, Sendung %s", "From %s": "Von %s", "To": "An", "TEST": "TEST",
		"Manifest %s, %s": "Übergabeliste %s, %s", "%s · %d parcels · %s %s": "%s · %d Pakete · %s %s", "Item number": "Sendungsnummer",
		"Service": "Dienst", "Order": "Auftrag", "Weight": "Gewicht", "Price": "Preis", "Taken over by %s": "Übernommen durch %s",
	},
	"fr": {
		"Round %s": "Tournée %s", "%d into slot %d": "%d dans la case %d",
		"Packing slip %s": "Bon de colisage %s", "Order %s": "Commande %s", "Your number %s": "Votre numéro %s",
		"Codes to scan": "Codes à scanner", "Take back": "Reprendre", "Takes the last scan back": "Annule le dernier scan",
		"Next carton": "Carton suivant", "Done": "Terminé", "To stock": "En stock", "To be looked at": "À examiner",
		"Written off": "Mis au rebut", "Of what comes back: what is scanned now": "Des retours : ce qui est scanné maintenant",
		"Packs what was scanned into the proposed carton":             "Emballe dans le carton proposé, puis le suivant",
		"Goes on: from picking to packing, from packing to the label": "Continuer : du prélèvement à l'emballage, à l'étiquette",
		"Parcel %s": "Colis %s", "Units": "Unités", "Sum": "Somme", "Together": "Ensemble",
		"Pick list %s": "Liste de prélèvement %s", "%d pick lists": "%d listes de prélèvement",
		"Printed %s · page %d": "Imprimé %s · page %d", "For %s": "Pour %s", "Channel number %s": "Numéro du canal %s",
		"Wished: %s": "Souhaité : %s", "Note: %s": "Note : %s", "Put in: %s": "À joindre : %s", "Bin": "Casier", "Product": "Article",
		"Scan": "Scanner", "Take": "Prendre", "Label %s": "Étiquette %s",
		"Cut along the line and glue the label on the parcel.": "Découper le long de la ligne et coller l'étiquette sur le colis.",
		"Order %s, shipment %s":                                "Commande %s, envoi %s", "From %s": "De %s", "To": "À", "TEST": "TEST",
		"Manifest %s, %s": "Bordereau %s, %s", "%s · %d parcels · %s %s": "%s · %d colis · %s %s", "Item number": "Numéro d'envoi",
		"Service": "Service", "Order": "Commande", "Weight": "Poids", "Price": "Prix", "Taken over by %s": "Pris en charge par %s",
	},
}

// language is that of a paper; the empty one and one that is not known are English.
type language string

// say writes a text of a paper in its language.
func (l language) say(text string, args ...any) string {
	if there := words[string(l)][text]; there != "" {
		text = there
	}
	if len(args) == 0 {
		return text
	}
	return fmt.Sprintf(text, args...)
}

// Speaks tells whether papers can be in a language, by its two letters of ISO 639-1.
func Speaks(code string) bool { return code == "en" || words[code] != nil }
