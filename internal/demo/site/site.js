// A language that somebody picks by hand is their choice, and wins from then on.
document.querySelector("footer nav").addEventListener("click", (event) => {
  const link = event.target.closest("a[hreflang]");
  if (link) porch.choose(link.hreflang).catch(() => {});
});
