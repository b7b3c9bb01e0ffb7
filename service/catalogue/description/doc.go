// Package description writes the description of an edition for those who use it: as Markdown, as one HTML file, and as
// a CycloneDX 1.6 bill of materials of a machine-learning model. It knows the API's types only.
package description
