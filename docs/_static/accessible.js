// What the theme leaves out for screen readers and keyboards.
document.addEventListener("DOMContentLoaded", () => {
  for (const caption of document.querySelectorAll(".caption[role=heading]")) caption.setAttribute("aria-level", "2");
  for (const [name, label] of [["sidebar-drawer", "Pages"], ["toc-drawer", "On this page"]]) {
    for (const aside of document.querySelectorAll("aside." + name)) aside.setAttribute("aria-label", label);
  }
  for (const block of document.querySelectorAll("pre")) {
    if (block.scrollWidth > block.clientWidth) block.tabIndex = 0;
  }
});
