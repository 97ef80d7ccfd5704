package world

import "fmt"

var (
	givenNames = []string{
		"Ida", "Jonas", "Merle", "Tove", "Anton", "Wilma", "Ragna", "Piet", "Saskia", "Emil", "Nora",
		"Hedda", "Bram", "Lise", "Oskar", "Freya", "Malin", "Rasmus", "Greta", "Tilde", "Ruben", "Ylva", "Matti",
		"Signe", "Casper", "Elin", "Joris", "Vera",
	}
	familyNames = []string{
		"Strand", "Haven", "Reedman", "Dyke", "Tern", "Marsh", "Holm", "Ebbing", "Plover", "Sluice",
		"Kelp", "Mooring", "Wick", "Lantern", "Dune", "Curlew", "Harbour", "Oyster", "Beacon", "Eddy", "Saltby", "Pike",
		"Larkin", "Fen", "Heron", "Brook",
	}
)

// personName returns a made-up name, another for every number.
func personName(n int) string {
	given := givenNames[n%len(givenNames)]
	// Neighbours share neither name, and no pair comes twice before all have come once.
	family := familyNames[(n/len(givenNames)+n)%len(familyNames)]
	if round := n / (len(givenNames) * len(familyNames)); round > 0 {
		return fmt.Sprintf("%s %s %d", given, family, round+1)
	}
	return given + " " + family
}
