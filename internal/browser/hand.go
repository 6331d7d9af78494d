package browser

import (
	"encoding/json"
	"fmt"

	"github.com/chromedp/chromedp"
)

// labelled finds the control of a label as a person does: by what stands at it.
const labelled = `((label) => {
	const of = [...document.querySelectorAll('label')].filter((l) => l.innerText.trim().startsWith(label));
	const named = [...document.querySelectorAll('[aria-label]')].filter((e) => e.getAttribute('aria-label') === label);
	return of.map((l) => l.querySelector('input:not([type=hidden]), textarea, button')).find(Boolean) ?? named.find((e) => e.matches('input, textarea, button'));
})`

// Fill types text into the field of a label, in the place of what stood there.
func (t *Tab) Fill(label, text string) error {
	return t.Await(fmt.Sprintf(`(() => {
		const field = %s(%s);
		if (!field) return false;
		Object.getOwnPropertyDescriptor(Object.getPrototypeOf(field), 'value').set.call(field, %s);
		field.dispatchEvent(new Event('input', { bubbles: true }));
		return true;
	})()`, labelled, quoted(label), quoted(text)))
}

// Choose takes an option of the list of a label, by its text.
func (t *Tab) Choose(label, option string) error {
	if err := t.click(fmt.Sprintf("%s(%s)", labelled, quoted(label))); err != nil {
		return err
	}
	return t.click(fmt.Sprintf("[...document.querySelectorAll('[role=option]')].find((o) => o.innerText.trim() === %s)", quoted(option)))
}

// Click presses the button whose text begins so, once it can be pressed.
func (t *Tab) Click(text string) error {
	return t.click(fmt.Sprintf("[...document.querySelectorAll('button')].find((b) => b.innerText.trim().startsWith(%s) && !b.disabled)", quoted(text)))
}

// click presses the mouse in the middle of an element, once it is there and lies still.
func (t *Tab) click(element string) error {
	place := fmt.Sprintf(`(() => { const e = %s; if (!e) return null; e.scrollIntoView({ block: 'center' }); const r = e.getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; })()`, element)
	if err := t.Await("(() => { const r = " + place +
		"; if (!r) return false; const still = String(r) === window.lastPlace; window.lastPlace = String(r); return still; })()"); err != nil {
		return err
	}
	at, err := Evaluate[[]float64](t, place)
	if err != nil {
		return err
	}
	return chromedp.Do(t.ctx, chromedp.MouseClickXY(at[0], at[1]))
}

func quoted(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}
