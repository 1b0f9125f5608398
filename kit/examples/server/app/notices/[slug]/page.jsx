import { notFound } from "next/navigation";
import { readerFor } from "../../../lib/site";

// Rendered when somebody asks for it, and kept until the gateway says that it is stale.
export const generateStaticParams = () => [];

export default async function Notice({ params }) {
  const { slug } = await params;
  const path = "/notices/" + slug;
  const reader = await readerFor(path);
  const notice = await reader.at(path, { fields: ["title", "text"] });
  if (!notice) notFound();
  return (
    <main>
      <meta name="ubiquon-sequence" content={String(reader.sequence)} />
      <h1>{notice.title}</h1>
      <div dangerouslySetInnerHTML={{ __html: notice.text?.html ?? "" }} />
      <footer>Rendered at {new Date().toISOString()}</footer>
    </main>
  );
}
