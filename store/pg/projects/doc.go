// Package projects keeps projects and views.
package projects
