package main

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"nimblepane/client"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
	"nimblepane/store/localpg"
)

// tenASecond is a site at which a clone takes two seconds; with some twenty at once, ten hosts a second are done.
const tenASecond = `
seed: 5
rate: 1
sites: [{name: a, clones-per-copy: 1000, knobs: {clone: 2s, spread: 0.5, boot: 1s, check: 1s}}]
build-machines: [{name: bm, site: a, machine-class: standard, base: vendor}]
`

// watching notes in a page when its first pane is there, and what blocks it for how long.
const watching = `
window.firstPane = 0; window.blocks = [];
new PerformanceObserver((l) => { for (const e of l.getEntries()) window.blocks.push([e.startTime, e.duration]); }).observe({ type: "longtask", buffered: true });
(function look() {
	if (document.querySelector('[role=group] [data-index]')) requestAnimationFrame(() => { window.firstPane = performance.now(); });
	else requestAnimationFrame(look);
})();`

// consoleOf measures the page of a rollover of 2,000 hosts in headless
// Chromium, while ten hosts a second settle: its first picture, and the longest
// time for which it is blocked. The service runs as it does by itself, with a
// heartbeat of each host every 30 seconds.
func consoleOf(ctx context.Context, r *results, db *localpg.Server, _ string) error {
	const hosts, loads, lasts = 2000, 5, 30 * time.Second
	address, stop, err := practising(ctx, tenASecond)
	if err != nil {
		return err
	}
	defer stop()
	st, err := database(ctx, db, "console")
	if err != nil {
		return err
	}
	defer st.Close()
	if err := loadEstate(ctx, st, "http://"+address, hosts); err != nil {
		return err
	}
	if err := st.DB.Exec("update sites set clones_per_copy = 26").Error; err != nil {
		return err
	}
	service, err := serve(db, "console", "http://"+address)
	if err != nil {
		return err
	}
	defer service.stop()
	c, err := service.signIn(ctx)
	if err != nil {
		return err
	}
	rolling, err := rollAll(ctx, c, "25%")
	if err != nil {
		return err
	}
	settled := func() int {
		one, err := c.Rollover(ctx, rolling)
		if err != nil {
			return -1
		}
		return one.Phases[rollover.Done]
	}
	for settled() < 100 {
		time.Sleep(100 * time.Millisecond)
	}

	tab, closeTab, err := openTab(ctx, service, watching)
	if err != nil {
		return err
	}
	defer closeTab()
	// Its first picture is looked at several times, and then what follows the last of them.
	firsts := make([]float64, loads)
	for i := range firsts {
		address := fmt.Sprintf("%s/rollovers/%d", service.url, rolling)
		if err := chromedp.Do(tab, chromedp.Navigate(address)); err != nil {
			return fmt.Errorf("open the page: %w", err)
		}
		if firsts[i], err = noted(tab, `window.firstPane`); err != nil {
			return err
		}
	}
	first := firsts[loads-1]
	before := settled()
	began := time.Now()
	time.Sleep(lasts)
	rate := float64(settled()-before) / time.Since(began).Seconds()
	blocks, err := chromedp.Run(tab, chromedp.Evaluate[[][2]float64](`window.blocks`))
	if err != nil {
		return err
	}
	// What loads and draws the page first is part of the first picture.
	longest, over := 0.0, 0
	for _, b := range blocks {
		if b[0] >= first {
			longest, over = max(longest, b[1]), over+1
		}
	}
	what := fmt.Sprintf("console, rollover of %d hosts of which %.0f a second settle: ", hosts, rate)
	slices.Sort(firsts)
	r.add(fmt.Sprintf("%sfirst picture, median of %d", what, loads), fmt.Sprintf("%.0f ms", firsts[loads/2]),
		"under 1,000 ms")
	r.add(what+"longest block in the "+lasts.String()+" after it",
		fmt.Sprintf("%.0f ms (%d over 50 ms)", longest, over),
		"under 100 ms")
	return nil
}

// openTab opens a tab of headless Chromium that is signed in to the service. The script runs in every page before it.
func openTab(ctx context.Context, s *service, script string) (tab context.Context, closeTab func(), err error) {
	allocate, stop := chromedp.NewExecAllocator(ctx, append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.WindowSize(1280, 800), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true))...)
	tab, cancel := chromedp.NewContext(allocate)
	closeTab = func() { cancel(); stop() }
	defer func() {
		if err != nil {
			closeTab()
		}
	}()
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(s.url),
		chromedp.WaitVisible(`input[name=name]`),
		chromedp.SendKeys(`input[name=name]`, "bench"), chromedp.SendKeys(`input[name=password]`, benchPassword+"\r"),
		chromedp.WaitVisible(`nav`)); err != nil {
		return nil, nil, fmt.Errorf("sign in: %w", err)
	}
	watch := func(ctx context.Context, t *chromedp.Target) (page.AddScriptToEvaluateOnNewDocumentResult, error) {
		return cdp.Call(ctx, t, page.AddScriptToEvaluateOnNewDocument,
			page.AddScriptToEvaluateOnNewDocumentParams{Source: script})
	}
	if _, err := chromedp.Run(tab, watch); err != nil {
		return nil, nil, fmt.Errorf("watch the page: %w", err)
	}
	return tab, closeTab, nil
}

// noted waits until an expression of a page comes to more than 0, and returns that.
func noted(tab context.Context, expression string) (float64, error) {
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		ms, err := chromedp.Run(tab, chromedp.Evaluate[float64](expression))
		if err != nil || ms > 0 {
			return ms, err
		}
		if time.Now().After(deadline) {
			return 0, fmt.Errorf("%s is 0 after 20 s", expression)
		}
	}
}

// rollAll makes a version and rolls the whole pool to it. It returns the rollover's number.
func rollAll(ctx context.Context, c *client.Client, batch string) (int64, error) {
	v, err := c.Capture(ctx, "desk", client.Capture{BuildMachine: "bm"})
	if err != nil {
		return 0, err
	}
	for len(v.Copies) == 0 || v.Copies[0].State != image.CopyPresent {
		time.Sleep(50 * time.Millisecond)
		if v, err = c.Version(ctx, "desk", v.Number); err != nil {
			return 0, err
		}
	}
	if _, err := c.Stage(ctx, "desk", v.Number, client.Staging{}); err != nil {
		return 0, err
	}
	rows, _, err := c.StartRollovers(ctx, client.StartRollovers{
		Pools:   []string{"p"},
		Options: client.Options{Batch: batch, Floor: "0"},
	})
	if err != nil {
		return 0, err
	}
	return rows[0].ID, nil
}
