/** The pieces' look: within `<rovett-…>` elements by `rovett/look`, for React and Vue as `rovett/look.css`. A page sets any of the custom
 * properties `--rovett-…`; light and dark follow the page's `color-scheme`. */
export const look = `
:host { display: inline-block; vertical-align: middle; }
:host([hidden]), [data-part][hidden] { display: none; }
:host(rovett-choices), :host(rovett-topic) { display: block; }
[data-part~="bell"], [data-part~="panel"], [data-part~="choices-panel"], [data-part~="mutes-panel"], [data-part~="toasts"], [data-part~="topic"], [data-part~="button"] {
  --r-ink: var(--rovett-ink, #0d2529);
  --r-ink-soft: var(--rovett-ink-soft, #3b5358);
  --r-surface: var(--rovett-surface, #ffffff);
  --r-hover: var(--rovett-hover, #f1f6f4);
  --r-line: var(--rovett-line, #d0dcda);
  --r-line-strong: var(--rovett-line-strong, #748b8b);
  --r-accent: var(--rovett-accent, #08665e);
  --r-accent-fill: var(--rovett-accent-fill, #0f8076);
  --r-accent-ink: var(--rovett-accent-ink, #ffffff);
  --r-new: var(--rovett-new, #b7530c);
  --r-new-ink: var(--rovett-new-ink, #ffffff);
  --r-wrong: var(--rovett-wrong, #a30f3d);
  --r-radius: var(--rovett-radius, 10px);
  --r-font: var(--rovett-font, system-ui, "Segoe UI", Roboto, "Noto Sans", sans-serif);
  --r-shadow: var(--rovett-shadow, 0 1px 2px rgb(9 40 45 / 0.1), 0 12px 32px -8px rgb(9 40 45 / 0.28));
  --r-width: var(--rovett-width, 392px);
  color: var(--r-ink);
  font: 400 15px/22px var(--r-font);
  font-variant-numeric: tabular-nums;
  text-align: start;
}
@supports (color: light-dark(#000, #fff)) {
  [data-part~="bell"], [data-part~="panel"], [data-part~="choices-panel"], [data-part~="mutes-panel"], [data-part~="toasts"], [data-part~="topic"], [data-part~="button"] {
    --r-ink: var(--rovett-ink, light-dark(#0d2529, #e7f1ef));
    --r-ink-soft: var(--rovett-ink-soft, light-dark(#3b5358, #afc3c1));
    --r-surface: var(--rovett-surface, light-dark(#ffffff, #152b30));
    --r-hover: var(--rovett-hover, light-dark(#f1f6f4, #0b191c));
    --r-line: var(--rovett-line, light-dark(#d0dcda, #2a454a));
    --r-line-strong: var(--rovett-line-strong, light-dark(#748b8b, #6b898b));
    --r-accent: var(--rovett-accent, light-dark(#08665e, #6ad3c3));
    --r-accent-fill: var(--rovett-accent-fill, light-dark(#0f8076, #3fb5a5));
    --r-accent-ink: var(--rovett-accent-ink, light-dark(#ffffff, #04201d));
    --r-new: var(--rovett-new, light-dark(#b7530c, #e98a47));
    --r-new-ink: var(--rovett-new-ink, light-dark(#ffffff, #2a1202));
    --r-wrong: var(--rovett-wrong, light-dark(#a30f3d, #ff94ab));
  }
}
[data-part~="icon"] { width: 16px; height: 16px; flex: none; }
[data-part~="unseen"] { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); white-space: nowrap; }
[data-part~="bell"] { display: inline-block; position: relative; }
[data-part~="button"] { position: relative; display: inline-grid; place-items: center; box-sizing: border-box; width: 44px; height: 44px; padding: 0; border: 0; border-radius: var(--r-radius); background: transparent; color: inherit; cursor: pointer; }
[data-part~="button"] > [data-part~="icon"] { width: 26px; height: 26px; }
[data-part~="button"]:hover, [data-part~="button"][aria-expanded="true"] { background: color-mix(in srgb, var(--r-accent-fill) 14%, transparent); }
[data-part~="count"] { position: absolute; top: -3px; left: 26px; min-width: 20px; height: 20px; box-sizing: border-box; padding: 0 5px; border-radius: 4px; background: var(--r-new); color: var(--r-new-ink); font: 650 12px/20px var(--r-font); font-variant-numeric: tabular-nums; text-align: center; box-shadow: 0 0 0 2px var(--r-surface); }
:is([data-part~="panel"], [data-part~="choices-panel"], [data-part~="mutes-panel"], [data-part~="toasts"], [data-part~="topic"], [data-part~="button"], [data-part~="inbox"]) :focus-visible, [data-part~="button"]:focus-visible { outline: 2px solid var(--r-accent); outline-offset: 2px; border-radius: 3px; }
[data-part~="inbox"] { width: var(--r-width); max-width: 100vw; padding: 0; border: 0; border-radius: var(--r-radius); background: var(--r-surface); color: inherit; box-shadow: var(--r-shadow); overflow: hidden; }
[data-part~="inbox"]:popover-open { display: flex; flex-direction: column; }
[data-part~="inbox"] > [data-part~="panel"] { flex: 1; min-height: 0; max-width: none; box-shadow: none; border-radius: 0; }
[data-part~="panel"], [data-part~="topic"] { display: flex; flex-direction: column; box-sizing: border-box; max-width: var(--r-width); min-width: 0; border-radius: var(--r-radius); background: var(--r-surface); box-shadow: var(--r-shadow); overflow: hidden; }
:is([data-part~="panel"], [data-part~="choices-panel"], [data-part~="mutes-panel"], [data-part~="topic"], [data-part~="toasts"]) :is(p, h2, ul, li, fieldset) { margin: 0; padding: 0; border: 0; list-style: none; }
:is([data-part~="panel"], [data-part~="choices-panel"], [data-part~="mutes-panel"]) button:not([data-part~="take"], [data-part~="save"]) { font: 560 14px/20px var(--r-font); color: var(--r-accent); background: none; border: 0; padding: 6px 8px; border-radius: 6px; cursor: pointer; min-height: 32px; }
:is([data-part~="panel"], [data-part~="choices-panel"], [data-part~="mutes-panel"]) button:hover:not(:disabled) { background: color-mix(in srgb, var(--r-accent-fill) 12%, transparent); }
:is([data-part~="panel"], [data-part~="choices-panel"]) button:disabled { color: var(--r-ink-soft); opacity: 0.7; cursor: default; }
[data-part~="head"] { display: flex; flex: none; align-items: center; gap: 10px; padding: 10px 10px 10px 20px; min-height: 56px; box-sizing: border-box; border-bottom: 1px solid var(--r-line); }
[data-part~="heading"] { font: 600 17px/24px var(--r-font); }
[data-part~="unread-count"] { color: var(--r-ink-soft); font-size: 14px; white-space: nowrap; }
[data-part~="head"] > button { margin-inline-start: auto; }
[data-part~="newer"] { margin: 6px auto 0 !important; }
[data-part~="items"] { flex: 0 1 auto; overflow-y: auto; overscroll-behavior: contain; scrollbar-width: thin; }
[data-part~="item"] { display: grid; grid-template-columns: 10px minmax(0, 1fr) auto; gap: 12px; padding: 14px 10px 14px 20px !important; border-bottom: 1px solid var(--r-line) !important; align-items: start; }
[data-part~="item"]:last-child { border-bottom: 0 !important; }
[data-part~="item"]:hover { background: var(--r-hover); }
[data-part~="nail"] { width: 9px; height: 9px; margin-top: 7px; border-radius: 2px; transform: rotate(45deg); }
[data-part~="new"] > [data-part~="nail"], [data-part~="toast"] > [data-part~="nail"] { background: var(--r-new); transition: background 600ms; }
:is([data-part~="item"], [data-part~="toast"]) [data-part~="title"] { color: var(--r-ink-soft); text-wrap: pretty; overflow-wrap: anywhere; }
:is([data-part~="item"], [data-part~="toast"]) [data-part~="unread"], [data-part~="toast"] [data-part~="title"], [data-part~="topic"] [data-part~="title"] { color: var(--r-ink); font-weight: 620; }
[data-part~="link"] { color: inherit; text-underline-offset: 3px; text-decoration-color: color-mix(in srgb, currentColor 40%, transparent); }
[data-part~="body"] { color: var(--r-ink-soft); font-size: 14px; line-height: 20px; overflow-wrap: anywhere; }
[data-part~="meta"] { color: var(--r-ink-soft); font-size: 13px; line-height: 20px; }
[data-part~="acts"] { display: flex; align-items: center; gap: 8px; margin-top: 8px !important; font-size: 14px; }
[data-part~="taken"] { display: inline-flex; align-items: center; gap: 6px; color: var(--r-ink-soft); }
[data-part~="taken"] > [data-part~="icon"] { width: 14px; height: 14px; color: var(--r-accent-fill); }
[data-part~="take"], [data-part~="save"] { font: 560 14px/20px var(--r-font); color: var(--r-accent-ink); background: var(--r-accent-fill); border: 0; padding: 6px 16px; border-radius: 6px; cursor: pointer; min-height: 32px; }
:is([data-part~="take"], [data-part~="save"]):hover:not(:disabled) { background: color-mix(in srgb, var(--r-accent-fill) 88%, #000) !important; }
[data-part~="save"]:disabled { background: var(--r-line); }
:is([data-part~="mark-read"], [data-part~="mark-unread"], [data-part~="dismiss"]) { display: grid; place-items: center; width: 32px; padding: 4px !important; color: var(--r-ink-soft) !important; }
@media (hover: hover) {
  [data-part~="mark-unread"] { opacity: 0; }
  [data-part~="item"]:hover [data-part~="mark-unread"], [data-part~="mark-unread"]:focus-visible { opacity: 1; }
}
[data-part~="empty"] { padding: 36px 20px !important; text-align: center; color: var(--r-ink-soft); }
[data-part~="bars"] { padding: 8px 20px 20px; animation: rovett-late 0s 300ms both; }
[data-part~="bars"] > i { display: block; height: 14px; margin-top: 16px; border-radius: 3px; background: var(--r-line); }
[data-part~="bars"] > i:nth-child(2) { width: 82%; }
[data-part~="bars"] > i:nth-child(3) { width: 58%; }
@keyframes rovett-late { from { visibility: hidden; } }
[data-part~="panel"] > [data-part~="status"]:empty, [data-part~="choices-panel"] > [data-part~="status"]:empty { display: none; }
[data-part~="status"] { padding: 8px 20px !important; color: var(--r-ink-soft); font-size: 13px; }
[data-part~="error"] { padding: 14px 20px 0 !important; color: var(--r-wrong); }
:is([data-part~="again"], [data-part~="more"]) { margin: 6px 12px !important; align-self: flex-start; }
[data-part~="foot"] { display: flex; flex: none; align-items: center; gap: 8px; margin-top: auto; padding: 6px 12px 6px 20px; min-height: 46px; box-sizing: border-box; border-top: 1px solid var(--r-line); color: var(--r-ink-soft); font-size: 13px; line-height: 18px; }
[data-part~="state"] { display: inline-flex; align-items: center; gap: 8px; }
[data-phase="live"] [data-part~="icon"] { color: var(--r-accent-fill); }
[data-phase="catching up"] [data-part~="icon"], [data-phase="connecting"] [data-part~="icon"] { color: var(--r-new); }
[data-phase="refused"] [data-part~="icon"] { color: var(--r-wrong); }
[data-part~="foot"] > button { margin-inline-start: auto; white-space: nowrap; }
[data-part~="toasts"] { position: fixed; z-index: 1000; right: 16px; bottom: 16px; width: min(var(--r-width), 100vw - 32px); display: grid; gap: 10px; pointer-events: none; }
[data-part~="toast"] { --r-ink: #e9f3f1; --r-ink-soft: #a6c0bf; --r-accent: #7fdccd; --r-new: #e98a47; pointer-events: auto; display: grid; grid-template-columns: 10px minmax(0, 1fr) auto; gap: 12px; align-items: start; padding: 14px 10px 14px 18px; border-radius: var(--r-radius); border-bottom: 3px solid var(--r-new); background: #0c2a2f; color: var(--r-ink); box-shadow: var(--r-shadow); animation: rovett-rise 120ms ease-out; }
[data-part~="toast"][data-urgency="high"] { --r-new: #ff7d98; }
[data-part~="dismiss"] { min-height: 28px; border: 0; border-radius: 6px; background: none; cursor: pointer; }
[data-part~="dismiss"]:hover { background: #123a40; }
[data-part~="others"] { justify-self: end; padding: 4px 10px !important; border-radius: 6px; background: #0c2a2f; color: #e9f3f1; font-size: 13px; }
@keyframes rovett-rise { from { opacity: 0; transform: translateY(6px); } }
:is([data-part~="choices-panel"], [data-part~="mutes-panel"]) { display: grid; gap: 20px; padding: 12px 20px 16px; overflow-y: auto; box-sizing: border-box; }
:is([data-part~="choices-panel"], [data-part~="mutes-panel"]) > [data-part~="status"] { padding: 0 !important; }
[data-part~="legend"] { padding: 0 0 6px; font-weight: 600; }
[data-part~="type"] { display: flex; align-items: center; gap: 10px; padding: 8px 0; border-bottom: 1px solid var(--r-line); cursor: pointer; }
[data-part~="always"], [data-part~="help"] { color: var(--r-ink-soft); font-size: 13px; line-height: 18px; }
[data-part~="check"] { width: 18px; height: 18px; margin: 0; flex: none; accent-color: var(--r-accent-fill); }
[data-part~="mute"] { display: flex; align-items: center; justify-content: space-between; gap: 10px; padding: 4px 0 !important; border-bottom: 1px solid var(--r-line) !important; }
[data-part~="choices-panel"] [data-part~="time"] { display: flex; flex-wrap: wrap; align-items: center; gap: 8px 12px; padding: 10px 0 !important; border-bottom: 1px solid var(--r-line) !important; }
[data-part~="days"] { display: flex; flex-wrap: wrap; gap: 6px 12px; width: 100%; font-size: 14px; }
[data-part~="day"] { display: inline-flex; align-items: center; gap: 5px; }
:is([data-part~="time-of-day"], [data-part~="select"]) { font: inherit; color: inherit; padding: 4px 8px; min-height: 32px; box-sizing: border-box; border: 1px solid var(--r-line-strong); border-radius: 6px; background: var(--r-surface); max-width: 100%; }
[data-part~="zone"] { display: flex; align-items: center; gap: 8px; flex-wrap: wrap; padding: 10px 0; }
[data-part~="topic"] { border-radius: 0; box-shadow: none; background: none; max-width: none; }
@media (max-width: 479px) {
  :is([data-part~="panel"], [data-part~="choices-panel"]) button { min-height: 40px !important; }
  [data-part~="inbox"] { border-radius: 0 0 var(--r-radius) var(--r-radius); }
}
@media (prefers-reduced-motion: reduce) {
  :is([data-part~="toast"], [data-part~="nail"]) { animation: none !important; transition: none !important; }
}
@media (forced-colors: active) {
  [data-part~="new"] > [data-part~="nail"], [data-part~="count"] { forced-color-adjust: none; background: Highlight; color: HighlightText; }
}
`;
