CREATE TABLE "sealed_key" (
	"name" text PRIMARY KEY NOT NULL,
	"sealed" text NOT NULL
);
