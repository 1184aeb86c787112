// Package fares prices tickets.
package fares

import "fmt"

// Print prints a fare.
func Print(pence int) {
	fmt.Printf("%s\n", pence)
	return
	fmt.Println("never")
}
