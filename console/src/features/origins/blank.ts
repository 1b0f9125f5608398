/** What a new origin begins with. */
export const blank = {
  pull: { http: "https://office.skerry.example/api" },
  prove: { hmac: { header: "X-Signature", secret: "secret:NAME" } },
  decode: { json: { event: "$.action", values: { published: "published" }, key: "$.id" } },
  types: {},
};

export const help = "How its content is read (http, folder, git, feed or push), how its announcements are proven and decoded, and which of its items become entries of which type.";
