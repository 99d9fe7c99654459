/** Places what opens from a button below it, or above where there is more room; full width where the window is narrow. */
export function placeBy(button: Element, panel: HTMLElement): void {
  const at = button.getBoundingClientRect();
  const { innerWidth, innerHeight } = globalThis;
  const isNarrow = innerWidth < 480;
  const below = innerHeight - at.bottom;
  const isAbove = below < 320 && at.top > below;
  const { style } = panel;
  style.position = 'fixed';
  style.margin = '0';
  style.inset = 'auto';
  style.top = isAbove ? 'auto' : `${at.bottom + 6}px`;
  style.bottom = isAbove ? `${innerHeight - at.top + 6}px` : 'auto';
  style.maxHeight = `${Math.max(200, (isAbove ? at.top : below) - 14)}px`;
  style.width = isNarrow ? '100%' : '';
  const { width } = panel.getBoundingClientRect();
  style.left = isNarrow ? '0' : `${Math.max(8, Math.min(at.right - width, innerWidth - width - 8))}px`;
}
