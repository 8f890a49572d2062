import batches from "bootstrap-icons/icons/stack.svg?raw";
import changes from "bootstrap-icons/icons/clock-history.svg?raw";
import signOut from "bootstrap-icons/icons/box-arrow-left.svg?raw";
import messages from "bootstrap-icons/icons/list-ul.svg?raw";
import dark from "bootstrap-icons/icons/moon.svg?raw";
import send from "bootstrap-icons/icons/pencil.svg?raw";
import phone from "bootstrap-icons/icons/phone.svg?raw";
import countries from "bootstrap-icons/icons/globe2.svg?raw";
import light from "bootstrap-icons/icons/sun.svg?raw";
import passcodes from "bootstrap-icons/icons/shield-lock.svg?raw";
import prices from "bootstrap-icons/icons/cash-coin.svg?raw";
import money from "bootstrap-icons/icons/wallet2.svg?raw";
import senders from "bootstrap-icons/icons/person-badge.svg?raw";
import events from "bootstrap-icons/icons/megaphone.svg?raw";
import replies from "bootstrap-icons/icons/chat-left-text.svg?raw";
import gateways from "bootstrap-icons/icons/signpost-split.svg?raw";
import statements from "bootstrap-icons/icons/receipt.svg?raw";
import today from "bootstrap-icons/icons/sunrise.svg?raw";
import templates from "bootstrap-icons/icons/file-text.svg?raw";

const icons = {
  batches, changes, replies, events, signOut, messages, dark, send, phone, light, countries, money, passcodes, prices, senders, templates,
  gateways, today, statements,
};

/** A landmark beside a word of the rail; the word says all. */
export function Icon({ name }: { name: keyof typeof icons }) {
  return <span className="icon" aria-hidden="true" dangerouslySetInnerHTML={{ __html: icons[name] }} />;
}
