import { useQuery } from "@tanstack/react-query";
import { persons } from "../api/queries";
import { PersonQuestions } from "../machines/Persons";
import { Sheet } from "../parts/controls";
import { Head } from "./desk.styles";

/** Which accounts may be one person's, as long as nobody has said. */
export function People() {
  const { data } = useQuery(persons);
  if (!data || data.questions.length === 0) return null;
  return (
    <Sheet aria-label="People">
      <Head>
        <h1>People</h1>
      </Head>
      <PersonQuestions most={3} />
    </Sheet>
  );
}
