import signOut from "bootstrap-icons/icons/box-arrow-left.svg?raw";
import messages from "bootstrap-icons/icons/list-ul.svg?raw";
import dark from "bootstrap-icons/icons/moon.svg?raw";
import send from "bootstrap-icons/icons/pencil.svg?raw";
import phone from "bootstrap-icons/icons/phone.svg?raw";
import light from "bootstrap-icons/icons/sun.svg?raw";

const icons = { signOut, messages, dark, send, phone, light };

/** A landmark beside a word of the rail; the word says all. */
export function Icon({ name }: { name: keyof typeof icons }) {
  return <span className="icon" aria-hidden="true" dangerouslySetInnerHTML={{ __html: icons[name] }} />;
}
