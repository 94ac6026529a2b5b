package main

import "fmt"

func main() { fmt.Println("its own main is not run") }

type scan struct {
	ID, Type, Deck string
	Data           struct{ Pass string }
}

func board(s scan) string { return s.ID + " " + s.Type + " " + s.Deck + " " + s.Data.Pass }
