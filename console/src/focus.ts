// After an act the focus is where the work goes on: where it was, or at the head of the page if what had it is gone.

/** How long a page takes to show what an act has changed, in milliseconds. */
const SHOWN = 150;
const LOOKS = 20;

/** Looks after the focus while an act is under way and shortly after it. */
export function keepFocus() {
  const had = document.activeElement;
  let left = LOOKS;
  const look = () => {
    left -= 1;
    if (document.activeElement === document.body) {
      const there = had instanceof HTMLElement && had.isConnected;
      if (there && !had.matches(':disabled')) had.focus();
      else if (!there) {
        document.querySelector<HTMLElement>('main h1')?.focus({ preventScroll: true });
        return;
      }
    }
    if (left > 0) setTimeout(look, SHOWN);
  };
  setTimeout(look, SHOWN);
}
