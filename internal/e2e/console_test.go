package e2e

import (
	"context"
	"fmt"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/console"
	"nimblepane/core/base"
	"nimblepane/core/role"
	"nimblepane/core/schedule"
	"nimblepane/internal/servicetest"
	"nimblepane/platform"
	"nimblepane/platform/practice/vendor"
)

// browser is one tab of headless Chromium.
type browser struct {
	t   *testing.T
	ctx context.Context
	url string
}

func open(t *testing.T, url string) *browser {
	t.Helper()
	allocate, cancel := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox, chromedp.WindowSize(1280, 800), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true))...)
	t.Cleanup(cancel)
	ctx, cancel := chromedp.NewContext(allocate)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 12*time.Minute) // beside everything else that is tested
	t.Cleanup(cancel)
	b := &browser{t, ctx, url}
	b.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url), chromedp.WaitVisible(`input[name=name]`))
	return b
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	require.NoError(b.t, chromedp.Do(b.ctx, steps...))
}

// script runs JavaScript in the page.
func script[T any](b *browser, text string) T {
	b.t.Helper()
	v, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](text, chromedp.EvalAwaitPromise))
	require.NoError(b.t, err)
	return v
}

// sees waits until the page shows a text.
func (b *browser) sees(text string) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 2*time.Minute)
	defer cancel()
	_, err := chromedp.Run(ctx, chromedp.Poll[bool](fmt.Sprintf(`document.body.innerText.includes(%q)`, text)))
	if err != nil {
		require.FailNow(b.t, "the page does not show "+text, script[string](b, `document.body.innerText`))
	}
}

// click presses the button of the label; in an open dialog, its own.
func (b *browser) click(label string) {
	b.t.Helper()
	press := fmt.Sprintf(`(() => {
		const within = [...document.querySelectorAll('[role=dialog]')].pop() ?? document;
		const b = [...within.querySelectorAll('button, a')].find(b => b.textContent.trim() === %q && !b.disabled);
		b?.click();
		return !!b;
	})()`, label)
	require.Eventually(b.t, func() bool { return script[bool](b, press) }, time.Minute, 50*time.Millisecond,
		"there is no button %q", label)
}

// field waits for the field of the label, marks it, and returns what selects it.
func (b *browser) field(label string) string {
	b.t.Helper()
	mark := fmt.Sprintf(`(() => {
		document.querySelector('[data-marked]')?.removeAttribute('data-marked');
		const within = [...document.querySelectorAll('[role=dialog]')].pop() ?? document;
		const l = [...within.querySelectorAll('label')].find(l => l.textContent.replace('*', '').trim() === %q);
		const f = l && document.getElementById(l.htmlFor);
		f?.setAttribute('data-marked', '');
		return !!f;
	})()`, label)
	require.Eventually(b.t, func() bool { return script[bool](b, mark) }, time.Minute, 50*time.Millisecond,
		"there is no field %q", label)
	return "[data-marked]"
}

// fill types into the field of the label, and leaves it.
func (b *browser) fill(label, text string) {
	b.t.Helper()
	b.do(chromedp.SendKeys(b.field(label), text))
	script[any](b, `document.activeElement.blur()`)
}

// choose chooses one of what the field of the label offers.
func (b *browser) choose(label, value string) {
	b.t.Helper()
	choice := fmt.Sprintf(`(() => {
		const f = document.querySelector(%q);
		if (![...f.options].some(o => o.value === %q)) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(f, %q);
		f.dispatchEvent(new Event('change', {bubbles: true}));
		return true;
	})()`, b.field(label), value, value)
	require.Eventually(b.t, func() bool { return script[bool](b, choice) }, time.Minute, 50*time.Millisecond,
		"%q does not offer %q", label, value)
}

func (b *browser) signIn(name string) {
	b.t.Helper()
	b.do(chromedp.SendKeys(`input[name=name]`, name),
		chromedp.SendKeys(`input[name=password]`, servicetest.Password+"\r"), chromedp.WaitVisible(`nav`))
}

func (b *browser) visit(path string) {
	b.t.Helper()
	b.do(chromedp.Navigate(b.url + path))
	// The page itself is asked: what the driver knows of its nodes may be of the page before.
	loaded := `!!document.querySelector("h1") && !document.body.innerText.includes("Loading")`
	for deadline := time.Now().Add(2 * time.Minute); !script[bool](b, loaded); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			require.FailNow(b.t, path+" does not load", script[string](b, `location.href + "\n" + document.body.innerText`))
		}
	}
}

func serveConsole(t *testing.T, o servicetest.Options) *servicetest.Service {
	t.Helper()
	files, built := console.Files()
	require.True(t, built, "make build first")
	o.Console = files
	return servicetest.Start(t, o)
}

// metal stands before practice sites as a platform that knows computers and machines.
type metal struct{ platform.Platform }

func (metal) Nodes(context.Context) ([]platform.Node, error) {
	return []platform.Node{
		{
			Name: "hv-1", Address: "qemu:///system", Software: "libvirt 9.0.0", Acceleration: "kvm", Cores: 16,
			CoresUsed: 24, Memory: 64 << 30, MemoryUsed: 60 << 30, Storage: 1 << 40, StorageFree: 1 << 39,
			StoragePath: "/pool", Machines: 12, Others: 1,
		},
		{
			Name: "hv-2", Address: "qemu+tls://hv-2.example.org/system",
			Unreachable: "hypervisor hv-2 does not answer: connection refused",
		},
	}, nil
}

func (metal) Machine(_ context.Context, host string) (platform.Machine, error) {
	return platform.Machine{
		State: platform.MachineRunning, Node: "hv-1", Name: host, Cores: 2, Memory: 4 << 30,
		Network: "bridge br0, 52:54:00:01:02:03",
		Display: "vnc://127.0.0.1:5901 on hv-1", Disks: []string{"/pool/" + host + ".own.qcow2", "/pool/desk.qcow2"},
	}, nil
}

// wider finds elements that exceed a width of 320 pixels outside of scrollable elements.
const wider = `(() => {
	const scrolls = (e) => {
		for (let p = e.parentElement; p; p = p.parentElement)
			if (["auto", "scroll"].includes(getComputedStyle(p).overflowX) || p.classList.contains("cm-editor")) return true;
		return false;
	};
	return [...document.querySelectorAll("main *")].filter(
		e => e.getBoundingClientRect().right > 321 && !scrolls(e)).slice(0, 4).map(e => e.outerHTML.slice(0, 200));
})()`

// edge computes the contrast ratio of the border of the name field (WCAG 2.2, contrast ratio).
const edge = `(() => {
	const light = (e, of) => {
		const [r, g, b] = getComputedStyle(e)[of].match(/[\d.]+/g).map(n => n / 255)
			.map(c => c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4);
		return 0.2126 * r + 0.7152 * g + 0.0722 * b;
	};
	const input = document.querySelector("input[name=name]");
	const [low, high] = [light(input, "borderTopColor"), light(input.form, "backgroundColor")].sort((a, b) => a - b);
	return (high + 0.05) / (low + 0.05);
})()`

func TestPagesAreAccessibleAndFit(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	over := func(p platform.Platform) platform.Platform { return metal{p} }
	s := serveConsole(t, servicetest.Options{Over: over, Scenario: servicetest.Scenario +
		"crowds:\n  - {hosts: bo-, people: 6, shifts: [\"00:00-23:59\"]}\n"})
	number := s.Live("back-office")
	_, err = s.As(role.Operator).DrainHost(t.Context(), "bo-001", "to be looked at")
	require.NoError(t, err)
	two := s.Captured("counter-desk", "bm-counter")
	_, err = s.As(role.Operator).Stage(t.Context(), "counter-desk", two, client.Staging{})
	require.NoError(t, err)

	_, err = s.As(role.Operator).CreateBuildMachine(t.Context(), "north-quay", client.NewBuildMachine{
		Name: "bm-printer", BaseDisk: "vendor.qcow2", MachineClass: "standard", Purpose: "the new printer",
	})
	require.NoError(t, err)

	begun, err := s.As(role.Operator).StartBuild(t.Context(), client.StartBuild{Sheet: "image: counter-desk\n" +
		"base: {disk: vendor.qcow2}\nmachine: {site: north-quay, cores: 4}\n" +
		"steps: [{name: Fare Desk, install: {packages: [fare-desk]}}]\n" +
		"applications: [{name: Fare Desk, command: /usr/bin/fare-desk, opens: {port: 80}}]\n"})
	require.NoError(t, err)
	s.Until("the build to end", func() bool {
		b, err := s.As(role.Viewer).Build(t.Context(), begun.ID)
		require.NoError(t, err)
		return b.State.Ended()
	})
	made, err := s.As(role.Viewer).Build(t.Context(), begun.ID)
	require.NoError(t, err)
	_, err = s.As(role.Operator).NoteOnBuildMachine(t.Context(), "north-quay", "bm-printer", "it prints tickets")
	require.NoError(t, err)

	_, err = s.As(role.Operator).SaveSheet(t.Context(), "fare-desk", 0, client.SheetText{Text: made.Sheet})
	require.NoError(t, err)
	_, err = s.As(role.Operator).SaveSheet(t.Context(), "half", 0, client.SheetText{Text: "image: counter-desk\n"})
	require.NoError(t, err)

	vendors := httptest.NewServer(vendor.Handler(os.DirFS("../../demo/saltmarsh/harbour")))
	t.Cleanup(vendors.Close)
	_, err = s.As(role.Operator).AddFeed(t.Context(), client.NewFeed{Name: "estuary", Address: vendors.URL})
	require.NoError(t, err)
	s.Until("the feed to be read", func() bool {
		f, err := s.As(role.Viewer).Feed(t.Context(), "estuary")
		require.NoError(t, err)
		return f.Releases == 3
	})
	_, err = s.As(role.Operator).BringBase(t.Context(), client.NewBase{
		Name: "harbour-13", Feed: "estuary", Labels: base.Labels{Release: "13"}, Serial: "20260804",
	})
	require.NoError(t, err)
	_, err = s.As(role.Operator).AddSchedule(t.Context(), client.NewSchedule{
		Name: "monthly", Sheet: "fare-desk", Mode: schedule.Dates, Rule: "FREQ=DAILY;BYHOUR=2", Zone: "UTC",
	})
	require.NoError(t, err)
	_, err = s.As(role.Operator).FollowRepository(t.Context(), "in-git", client.NewRepository{
		Address: vendors.URL + "/desks.git", File: "desk.yaml",
	})
	require.NoError(t, err)

	_, err = s.As(role.Operator).LoadFlaws(t.Context(), "debian", []byte(`{"id": "A-1", "modified": "2026-11-20T08:00:00Z"}`))
	require.NoError(t, err)
	// One that does not end while the pages are looked at.
	slow, err := s.World.Knobs("south-quay")
	require.NoError(t, err)
	slow.Deliver *= 10_000
	require.NoError(t, s.World.SetKnobs("south-quay", slow))
	_, err = s.As(role.Operator).Capture(t.Context(), "counter-desk", client.Capture{BuildMachine: "bm-counter"})
	require.NoError(t, err)
	s.Until("a delivery under way", func() bool {
		list, err := s.As(role.Viewer).Deliveries(t.Context(), client.Deliveries{Site: "south-quay"})
		require.NoError(t, err)
		return len(list) > 0 && list[0].Whole > 0
	})

	b := open(t, s.URL)
	// Dark pages differ from light ones by their colours alone.
	check := func(page, only string) {
		t.Helper()
		require.LessOrEqual(t, script[int](b, `document.documentElement.scrollWidth`), 1280, "%s scrolls sideways",
			page)
		if !script[bool](b, `!!window.axe`) {
			script[any](b, string(axe)+"; undefined")
		}
		found := script[[]string](b, `axe.run(document, {resultTypes: ["violations"], ...`+only+`}).then(r => r.violations.map(v => v.id + ": " + v.help + " " + v.nodes.slice(0, 3).map(n => n.html.slice(0, 200)).join(" | ")))`)
		require.Empty(t, found, "%s", page)
	}
	narrow := func(page string) {
		t.Helper()
		// A browser at 400 % zoom is 320 pixels wide (WCAG 2.2, 1.4.10). Only scrollable elements
		// may be wider.
		b.do(chromedp.EmulateViewport(320, 800))
		require.Empty(t, script[[]string](b, wider), "%s is wider than 320 pixels", page)
		b.do(chromedp.EmulateViewport(1280, 800))
	}
	check("sign-in", "{}")
	narrow("sign-in")
	require.GreaterOrEqual(t, script[float64](b, edge), 3.0)
	script[any](b, `localStorage.setItem("shade", "dark")`)
	b.do(chromedp.Reload(), chromedp.WaitVisible(`input[name=name]`))
	require.True(t, script[bool](b, `document.documentElement.classList.contains("dark")`))
	check("dark sign-in", "{}")
	require.GreaterOrEqual(t, script[float64](b, `document.querySelector("input[name=password]").focus(), `+edge), 3.0)
	script[any](b, `localStorage.setItem("shade", "light")`)
	b.signIn(string(role.Administrator))
	b.sees("Hosts serving")
	require.Equal(t, "content", script[string](b, `document.activeElement.id`), "the page has the focus after the sign-in")
	require.Less(t, script[int](b, `[...performance.getEntriesByType("resource"), ...performance.getEntriesByType(
		"navigation")].reduce((sum, e) => sum + e.transferSize, 0)`), 220_000, "bytes until Today is shown")
	for path, shows := range map[string]string{
		"/": "drained by hand", "/images": "fallback", "/images/counter-desk": number,
		"/images/counter-desk/settings": "What is kept", "/pools": "back-office",
		"/pools/back-office": "bo-004",
		"/rollovers":         "finished", "/rollovers/1": "Hosts by batch",
		"/rollovers/new?pool=ticket-pilot": "Log-off policy", "/trail?verb=build.ready": "build.ready",
		"/nowhere":                       "no page",
		"/pools/back-office?host=bo-001": "Drained by", "/sites": "bm-counter",
		"/sites/north-quay": "hv-2 does not answer", "/hosts/bo-001": "made on /pool/desk.qcow2",
		"/hosts?find=bo-": "bo-004", "/people": "Tell", "/images/counter-desk/versions/" + number: "version.seal",
		"/images/counter-desk/versions/" + number + "/software":   "listed by nimblepane-practice",
		"/images/counter-desk/versions/" + number + "/system":     "Services that start by themselves",
		"/images/counter-desk/versions/" + number + "/provenance": "It was signed when it was sealed",
		"/images/counter-desk/versions/" + number + "/flaws":      "No known vulnerabilities",
		"/sites/south-quay": "copy 1",
		"/images/counter-desk/versions/" + number + "/copies": "Hosts are cloned from them",
		"/images/counter-desk/compare/" + made.Version:        "At a glance",
		"/software?name=fare-desk&all=yes":                    made.Version,
		"/estate":                                             "Check it first",
		"/builds":                                             "vendor.qcow2",
		fmt.Sprint("/builds/", begun.ID):                      "Setting up fare-desk ...",
		"/build-machines/north-quay/bm-printer":               "it prints tickets",
		"/images/counter-desk/versions/" + made.Version:       "Fare Desk", // tried at its first start
		"/sheets": "wrong in 3 places", "/sheets/fare-desk": "Then the seal checks are made",
		"/bases": "20261103", "/bases/harbour-13": "20261103 is newer", "/feeds/estuary": "Supported until",
		"/calendar": "monthly", "/sheets/in-git": "It cannot be taken from its repository",
		"/sheets/half?as=text": "the base is missing", "/sheets/half": "Add an application",
		"/build-machines": "the new printer", "/accounts": "Add an account", "/tokens": "Make a token",
	} {
		b.visit(path)
		b.sees(shows)
		check(path, "{}")
		narrow(path)
		script[any](b, `document.documentElement.classList.add("dark"); document.head.insertAdjacentHTML("beforeend",
			"<style>* { transition: none !important }</style>")`)
		check("dark "+path, `{runOnly: ["color-contrast"]}`)
	}
	b.visit("/pools/tea-room")
	b.sees(`pool "tea-room": not found`)
}

func TestAMonthsWorkInTheConsole(t *testing.T) {
	t.Parallel()
	s := serveConsole(t, servicetest.Options{})
	one := s.Live("back-office")
	b := open(t, s.URL)
	b.signIn(string(role.Administrator))
	b.sees("8 of 8 hosts of ticket-counters drift")

	b.visit("/images/counter-desk")
	b.click("Capture a version")
	b.sees("Build machine")
	b.click("Capture a version")
	two := strings.Replace(one, ".1", ".2", 1)
	if !strings.HasSuffix(two, ".2") {
		two = one[:len(one)-1] + "2"
	}
	b.sees(two)
	s.Until("the seal, seen live", func() bool {
		return script[bool](b, `!document.querySelector("[role=dialog]") &&
			document.body.innerText.split("sealed").length === 3`)
	})
	b.click("Stage")
	b.sees("Production does not change.")
	b.click("Stage")
	b.sees("Trial of " + two)

	b.visit("/rollovers/new?pool=ticket-pilot")
	b.click("Start")
	b.sees("Hosts by batch")
	b.sees("finished")

	b.visit("/images/counter-desk")
	b.click("Activate")
	b.sees("Keep the version in use before as the fallback")
	b.click("Activate")
	b.sees("0 of 1 tester said yes")
	b.click("Cancel")
	b.click("Sign: yes")
	b.click("Sign: yes")
	b.sees("It has clearance.")
	b.click("Activate")
	b.click("Activate")
	b.sees("Live names " + two)

	b.visit("/")
	b.sees("4 of 4 hosts of back-office drift")
	b.visit("/trail")
	b.click("Verify")
	b.sees("The trail is whole")
	b.click("Sign out")
	b.do(chromedp.WaitVisible(`input[name=password]`))
}

func TestAViewerIsShownNothingThatChangesSomething(t *testing.T) {
	t.Parallel()
	s := serveConsole(t, servicetest.Options{})
	b := open(t, s.URL)
	b.signIn(string(role.Viewer))
	for _, path := range []string{"/images/counter-desk", "/pools/back-office", "/rollovers"} {
		b.visit(path)
		labels := script[[]string](b, `[...document.querySelectorAll("main button, main a")].map(b => b.textContent.trim())`)
		for _, l := range labels {
			require.NotContains(t, []string{
				"Capture a version", "Roll back", "Stage", "Activate", "Pin",
				"Tell everybody", "Start a rollover",
			}, l)
		}
	}
}

func TestTheKeyboardIsEnough(t *testing.T) {
	t.Parallel()
	s := serveConsole(t, servicetest.Options{})
	b := open(t, s.URL)
	b.signIn(string(role.Operator))
	b.visit("/pools/back-office")
	focused := func() string {
		return script[string](b, `document.activeElement.textContent`)
	}
	require.Eventually(t, func() bool {
		b.do(chromedp.KeyEvent("\t"))
		return strings.HasPrefix(focused(), "bo-001")
	}, time.Minute, 10*time.Millisecond, "the first pane is never reached")
	b.do(chromedp.KeyEvent("\r"))
	b.sees("Last heard")
	b.do(chromedp.KeyEvent("\x1b"))
	require.Eventually(t, func() bool { return !script[bool](b, `!!document.querySelector("[role=dialog]")`) },
		10*time.Second, 50*time.Millisecond)
}

func TestASheetIsWrittenInTheConsole(t *testing.T) {
	t.Parallel()
	s := serveConsole(t, servicetest.Options{})
	b := open(t, s.URL)
	b.signIn(string(role.Operator))
	b.visit("/sheets")
	b.sees("None is kept here yet")
	b.click("New sheet")
	b.sees("Choose a file")
	b.fill("Name", "counter-desk")
	b.click("New sheet")
	b.sees("What is wrong")
	b.choose("Image", "counter-desk")
	b.choose("Site", "north-quay")
	b.choose("Add a step", "install")
	b.fill("Packages", "fare-desk")
	b.click("As text")
	b.sees("what is in use") // the comment
	b.sees("packages: [fare-desk]")
	script[any](b, `document.querySelector(".cm-content").focus()`)
	b.do(chromedp.KeyEvent("# written by hand\r"))
	b.sees("the package fare-desk is installed")
	b.click("Save")
	b.sees("Saved, as revision 2")
	kept, err := s.As(role.Viewer).Sheet(t.Context(), "counter-desk")
	require.NoError(t, err)
	require.Contains(t, kept.Text, "base: {track: live} # what is in use\n")
	require.Contains(t, kept.Text, "# written by hand")
	require.Contains(t, kept.Text, "      packages: [fare-desk]\n")
	require.Empty(t, kept.Wrong)
}
