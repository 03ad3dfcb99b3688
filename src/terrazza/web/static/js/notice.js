// A sentence for the surveyor, for a while.
export function notice(message) {
  const div = document.createElement("div");
  div.className = "notice";
  div.textContent = message;
  document.getElementById("notices").append(div);
  setTimeout(() => div.remove(), 9000);
}
