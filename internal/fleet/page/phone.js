// Shows the handsets, live. The address keeps which one is looked at.
const numbers = document.getElementById("numbers");
const screen = document.getElementById("screen");
const time = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });

function make(tag, props, ...children) {
  const node = Object.assign(document.createElement(tag), props);
  node.append(...children);
  return node;
}

// What is being written back, by number: the screen is made anew at every arrival.
const drafts = {};

function answer(phone) {
  const said = make("small", {});
  const box = make("input", { value: drafts[phone.number] ?? "", placeholder: `Write back to ${phone.texts[0].from}`, ariaLabel: "Write back", autocomplete: "off" });
  box.oninput = () => { drafts[phone.number] = box.value; };
  const form = make("form", { className: "answer" }, box, make("button", { textContent: "Send" }), said);
  form.onsubmit = async (e) => {
    e.preventDefault();
    const response = await fetch(`/phones/${encodeURIComponent(phone.number)}/reply`, { method: "POST", body: JSON.stringify({ text: box.value }) });
    said.textContent = response.ok ? "Sent." : (await response.json()).error;
    if (response.ok) drafts[phone.number] = box.value = "";
  };
  return form;
}

async function show() {
  const { phones } = await (await fetch("/phones?texts=50")).json();
  const chosen = decodeURIComponent(location.hash.slice(1));
  const current = phones.find((p) => p.number === chosen) ?? phones[0];
  const focused = document.activeElement?.dataset?.number;
  numbers.replaceChildren(...phones.map((p) => {
    const button = make("button", { onclick: () => { location.hash = encodeURIComponent(p.number); } },
      make("span", { className: "mono", textContent: p.number }),
      make("small", { textContent: `${p.texts[0].from}: ${p.texts[0].text}` }));
    button.dataset.number = p.number;
    button.setAttribute("aria-current", String(p === current));
    return button;
  }));
  const writing = document.activeElement?.closest?.(".answer") && document.activeElement.selectionStart;
  if (focused) [...numbers.children].find((b) => b.dataset.number === focused)?.focus();
  if (!current) {
    screen.replaceChildren(make("p", { className: "empty", textContent: "Nothing has arrived yet. Send a text to +447700900123, and it shows up here." }));
    return;
  }
  screen.replaceChildren(make("h2", { className: "mono", textContent: current.number }), ...(/[^+\d]/.test(current.texts[0].from) ? [] : [answer(current)]), ...current.texts.map((t) =>
    make("article", { className: "text" },
      make("b", { textContent: t.from }),
      make("p", { textContent: t.text }),
      make("small", { textContent: `${t.call ? "a voice call, " : ""}${t.flash ? "flashed on the screen, " : ""}${time.format(new Date(t.at))}${t.segments > 1 ? `, put together from ${t.segments} segments` : ""}` }))));
  if (typeof writing === "number") { const box = screen.querySelector(".answer input"); box.focus(); box.setSelectionRange(writing, writing); }
}

new EventSource("/phones/follow").onmessage = show;
addEventListener("hashchange", show);
