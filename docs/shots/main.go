// Command shots takes the pictures of the console for the documentation, from
// the running demo.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

func main() {
	url := flag.String("url", "http://127.0.0.1:7700", "address of the demo")
	name := flag.String("name", "mira", "who signs in")
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	dark := flag.Bool("dark", false, "dark colours")
	flag.Parse()
	if err := run(*url, *name, *out, *dark, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

// run takes a picture for each NAME=PATH, such as today=/ or pool=/pools/back-office.
func run(url, name, out string, dark bool, pages []string) error {
	allocate, cancel := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.WindowSize(1280, 800), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true))...)
	defer cancel()
	ctx, cancel := chromedp.NewContext(allocate)
	defer cancel()
	ctx, cancel = context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	save := func(page string) error {
		picture, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(out, page+".png"), picture, 0o644)
	}
	shade := map[bool]string{true: "dark", false: "light"}[dark]
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url),
		chromedp.WaitVisible(`input[name=name]`)); err != nil {
		return err
	}
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[any](`localStorage.setItem("shade", "`+shade+`")`)); err != nil {
		return err
	}
	if err := chromedp.Do(ctx, chromedp.Reload(), chromedp.WaitVisible(`input[name=name]`),
		chromedp.SendKeys(`input[name=name]`, name), chromedp.SendKeys(`input[name=password]`,
			"saltmarsh-demo")); err != nil {
		return err
	}
	if err := chromedp.Do(ctx, chromedp.Click(`button[type=submit]`), chromedp.WaitVisible(`nav`)); err != nil {
		return err
	}
	for _, p := range pages {
		page, path, _ := strings.Cut(p, "=")
		if err := chromedp.Do(ctx, chromedp.Navigate(url+path)); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		if _, err := chromedp.Run(ctx, chromedp.Poll[bool](
			`document.querySelector("h1") !== null && !document.body.textContent.includes("Loading")`)); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		// What is live keeps arriving; let the first of it be drawn.
		if err := chromedp.Do(ctx, chromedp.Sleep(900*time.Millisecond)); err != nil {
			return err
		}
		if err := save(page); err != nil {
			return err
		}
	}
	return nil
}
