package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"humble-rewind/internal/browser"
)

// adhoc LINK OUT PATH TEXT [keys...]
func main() {
	b, err := browser.Open(context.Background(), 1280, 800)
	if err != nil {
		panic(err)
	}
	defer b.Close()
	link := os.Args[1]
	base, _, _ := strings.Cut(link, "/sign-in")
	say := func(err error) {
		if err != nil {
			fmt.Println("error:", err)
		}
	}
	say(b.Visit(link))
	say(b.WaitText("Deleted lately"))
	say(b.Visit(base + os.Args[3]))
	say(b.WaitText(os.Args[4]))
	for _, k := range os.Args[5:] {
		if strings.HasPrefix(k, "eval:") {
			r, err := b.Evaluate(k[5:])
			fmt.Println(r)
			say(err)
			continue
		}
		if strings.HasPrefix(k, "type:") {
			say(b.Type(k[5:]))
			continue
		}
		if strings.HasPrefix(k, "wait:") {
			say(b.WaitText(k[5:]))
			continue
		}
		if strings.HasPrefix(k, "tab:") {
			say(b.TabTo(k[4:], 80))
			continue
		}
		say(b.Press(k))
	}
	time.Sleep(700 * time.Millisecond)
	png, err := b.Screenshot()
	say(err)
	os.WriteFile(os.Args[2], png, 0o644)
}
