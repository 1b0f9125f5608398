import Link from "next/link";
import { readerFor } from "../lib/site";

export default async function Home() {
  const reader = await readerFor("/");
  const { items } = await reader.list("notices", { sort: ["-published"], limit: 5, fields: ["title", "slug"] });
  return (
    <main>
      <meta name="ubiquon-sequence" content={String(reader.sequence)} />
      <h1>Notices</h1>
      <ul>
        {items.map((n) => (
          <li key={n.slug}>
            <Link href={"/notices/" + n.slug}>{n.title}</Link>
          </li>
        ))}
      </ul>
    </main>
  );
}
