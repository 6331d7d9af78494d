package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"time"

	"tinbell/internal/browser"
)

// zshot TOKEN PATH FILE HEIGHT [SCROLL] [JS]
func main() {
	h, _ := strconv.ParseInt(os.Args[4], 10, 64)
	tab, err := browser.Open(context.Background(), 1280, h, false)
	if err != nil {
		panic(err)
	}
	defer tab.Close()
	base := "http://127.0.0.1:7466"
	tab.Go(base + "/sign-in#" + os.Args[1])
	tab.Await("document.querySelector('h1')")

	time.Sleep(800 * time.Millisecond)
	tab.Go(base + os.Args[2])
	time.Sleep(3500 * time.Millisecond)
	if len(os.Args) > 5 && os.Args[5] != "" {
		browser.Evaluate[bool](tab, fmt.Sprintf("(()=>{window.scrollTo(0,%s);return true})()", os.Args[5]))
		time.Sleep(500 * time.Millisecond)
	}
	if len(os.Args) > 6 {
		browser.Evaluate[bool](tab, "(()=>{"+os.Args[6]+";return true})()")
		time.Sleep(1500 * time.Millisecond)
	}
	if err := tab.Picture(os.Args[3]); err != nil {
		panic(err)
	}
}
