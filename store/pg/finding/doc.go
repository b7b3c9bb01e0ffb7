// Package finding asks for what a filter expression finds: it makes SQL of it.
package finding
