// Package entering keeps the rules by which runs enter models by themselves, looks at the runs that end, and shows what
// a rule would have done with those that have. What a rule makes of a figure is decided in core/catalogue; editions are
// entered as a person enters them, in the name of whoever made the rule and with no more rights than they have.
package entering
