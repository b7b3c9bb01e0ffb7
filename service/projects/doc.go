// Package projects makes, shows and changes projects, and keeps the views that people make of their runs.
package projects
