// The clipboard, also where a page came without TLS and has none of its own.
export async function copyText(text: string): Promise<boolean> {
  if (navigator.clipboard) {
    return navigator.clipboard.writeText(text).then(
      () => true,
      () => false,
    );
  }
  const box = document.createElement('textarea');
  const before = document.activeElement as HTMLElement | null;
  box.value = text;
  box.style.position = 'fixed';
  box.style.opacity = '0';
  document.body.append(box);
  box.select();
  const done = document.execCommand('copy');
  box.remove();
  before?.focus();
  return done;
}
