package worldtest

import (
	"context"
	"fmt"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"kambrel.example/kambrel/lab/browser"
)

// What follows uses a page as somebody does who has no mouse.

// mostTabs is how often Tab is pressed before something counts as out of reach.
const mostTabs = 300

// reach waits until something is on the page that fits a condition on e, and tabs to it.
func reach(what, fits string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		there := fmt.Sprintf(`[...document.querySelectorAll("a, button, input, textarea, [tabindex]")].some(e => !e.disabled && %s)`, fits)
		if err := browser.Until(there, 20*time.Second).Do(ctx); err != nil {
			return fmt.Errorf("%s is not on the page: %w", what, err)
		}
		var met string
		for range mostTabs {
			var reached bool
			if err := chromedp.Evaluate(fmt.Sprintf(`(e => !!e && %s)(document.activeElement)`, fits), &reached).Do(ctx); err != nil || reached {
				return err
			}
			if err := chromedp.KeyEvent(kb.Tab).Do(ctx); err != nil {
				return err
			}
		}
		if err := chromedp.Evaluate(`document.activeElement.outerHTML.slice(0, 200)`, &met).Do(ctx); err != nil {
			return err
		}
		return fmt.Errorf("%s cannot be reached by Tab, which ends at %s", what, met)
	})
}

// Press tabs to the button of a text, or to the link or tab in which it stands, and presses
// Enter.
func Press(text string) chromedp.Action {
	return chromedp.Tasks{reach(text, fmt.Sprintf(`(e.tagName === "BUTTON" ? e.textContent.trim() === %[1]q : e.tagName === "A" && e.textContent.includes(%[1]q))`, text)), chromedp.KeyEvent(kb.Enter)}
}

// Write tabs to a field by how its label begins, and types into it.
func Write(label, text string) chromedp.Action {
	return chromedp.Tasks{reach(label, fmt.Sprintf(`(e.ariaLabel ?? e.labels?.[0]?.textContent ?? "").trim().startsWith(%q)`, label)), chromedp.KeyEvent(text)}
}

// Turn tabs to a choice of some, and takes one of them by the arrow down.
func Turn(name string, down int) chromedp.Action {
	tasks := chromedp.Tasks{reach(name, fmt.Sprintf(`e.type === "radio" && e.name === %q`, name))}
	for range down {
		tasks = append(tasks, chromedp.KeyEvent(kb.ArrowDown))
	}
	return tasks
}

// Tick walks through a tree to what is called so, and ticks it.
func Tick(name string) chromedp.Action {
	return chromedp.Tasks{reach("the tree", `e.role === "treeitem"`), chromedp.ActionFunc(func(ctx context.Context) error {
		for range mostTabs {
			var there bool
			if err := chromedp.Evaluate(fmt.Sprintf(`document.activeElement.querySelector(".label")?.textContent === %q`, name), &there).Do(ctx); err != nil {
				return err
			}
			if there {
				return chromedp.KeyEvent(" ").Do(ctx)
			}
			if err := chromedp.KeyEvent(kb.ArrowDown).Do(ctx); err != nil {
				return err
			}
		}
		return fmt.Errorf("no arrow leads to %s", name)
	})}
}

// Page goes to a page by the field that finds anything.
func Page(name string) chromedp.Action {
	first := fmt.Sprintf(`document.querySelector("#finds li:first-child")?.textContent.trim().startsWith(%q)`, name)
	return chromedp.Tasks{chromedp.KeyEvent("k", chromedp.KeyModifiers(input.ModifierCtrl)), chromedp.KeyEvent(name), browser.Until(first, 20*time.Second), chromedp.KeyEvent(kb.Enter)}
}
