// Command ask prints what a URL answers.
package main

import (
	"fmt"
	"io"
	"net/http"
	"os"
)

func main() {
	r, err := http.Get(os.Args[1])
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	_, _ = io.Copy(os.Stdout, r.Body)
}
