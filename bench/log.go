package main

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/chromedp/chromedp"

	"nimblepane/core/build"
	"nimblepane/core/sheet"
	"nimblepane/store"
	"nimblepane/store/localpg"
)

// reading notes in the page of a build when the first line of its log is drawn.
const reading = `
window.firstLine = 0;
const logLine = (text) => [...document.querySelectorAll('[role=region][aria-label=Log] div')].some((d) => d.textContent === text);
(function look() {
	if (logLine("tide 0")) requestAnimationFrame(() => { window.firstLine = performance.now(); });
	else requestAnimationFrame(look);
})();`

// jumping goes to the middle of the log and notes how long it takes until what stands there is drawn.
const jumping = `
window.jumped = 0;
(() => {
	const began = performance.now();
	document.querySelector('[role=region][aria-label=Log]').scrollTop = 20 * 100000;
	(function look() {
		if (logLine("tide 100005")) requestAnimationFrame(() => { window.jumped = performance.now() - began; });
		else requestAnimationFrame(look);
	})();
})(); 1`

// logOf measures the page of a build with a log of 200,000 lines in headless Chromium.
func logOf(ctx context.Context, r *results, db *localpg.Server, _ string) error {
	const length, loads, atOnce = 200_000, 5, 4000
	st, err := database(ctx, db, "log")
	if err != nil {
		return err
	}
	defer st.Close()
	if err := loadEstate(ctx, st, "http://127.0.0.1:1", 1); err != nil {
		return err
	}
	plan, err := sheet.Parse([]byte("image: desk\nbase: {disk: x}\nmachine: {site: a}\n" +
		"steps: [{name: tides, script: {text: '#!/bin/sh'}}]\n"))
	if err != nil {
		return err
	}
	now := time.Now()
	b := store.Build{
		ImageID: 1, SiteID: 1, State: build.Failed, Settled: true, StartedBy: "bench", StartedAt: now, EndedAt: &now,
		Plan: store.JSON[sheet.Sheet]{V: plan},
	}
	if err := st.DB.Create(&b).Error; err != nil {
		return err
	}
	work := store.Work{Key: "do-step", Attempt: 1}
	for from := 0; from < length; from += atOnce {
		lines := make([]string, atOnce)
		for i := range lines {
			lines[i] = fmt.Sprint("tide ", from+i)
		}
		if err := store.AddLog(st.DB, b.ID, work, 0, int64(from+atOnce), now, lines); err != nil {
			return err
		}
	}
	service, err := serve(db, "log", "")
	if err != nil {
		return err
	}
	defer service.stop()
	if _, err := service.signIn(ctx); err != nil {
		return err
	}
	tab, closeTab, err := openTab(ctx, service, reading)
	if err != nil {
		return err
	}
	defer closeTab()
	firsts, jumps := make([]float64, loads), make([]float64, loads)
	for i := range loads {
		if err := chromedp.Do(tab, chromedp.Navigate(fmt.Sprintf("%s/builds/%d", service.url, b.ID))); err != nil {
			return fmt.Errorf("open the page: %w", err)
		}
		if firsts[i], err = noted(tab, `window.firstLine`); err != nil {
			return err
		}
		if _, err := chromedp.Run(tab, chromedp.Evaluate[float64](jumping)); err != nil {
			return err
		}
		if jumps[i], err = noted(tab, `window.jumped`); err != nil {
			return err
		}
	}
	slices.Sort(firsts)
	slices.Sort(jumps)
	what := fmt.Sprintf("console, log of %d lines, median of %d: ", length, loads)
	r.add(what+"its first lines are there", fmt.Sprintf("%.0f ms", firsts[loads/2]), "under 1,000 ms")
	r.add(what+"its middle is, after one goes there", fmt.Sprintf("%.0f ms", jumps[loads/2]), "")
	return nil
}
