// Package catalogue answers for the catalogue: models, the editions entered in them, who has which standing, who signed
// off, what was checked, and who uses what. What is known of an edition's run is copied when it is entered, with its
// files, so that the catalogue is there when the run is not.
package catalogue
