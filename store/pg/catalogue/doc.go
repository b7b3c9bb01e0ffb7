// Package catalogue has the queries on models, their editions and their standings.
package catalogue
