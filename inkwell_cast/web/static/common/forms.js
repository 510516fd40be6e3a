// Enter in a form that leads nowhere loads no page: a browser would ask for the page anew, with the fields in its
// address.
document.addEventListener("submit", (e) => {
  if (!e.target.hasAttribute("action") && e.target.getAttribute("method") !== "dialog") e.preventDefault();
});
