CREATE TABLE "saved_query" (
	"id" text PRIMARY KEY NOT NULL,
	"name" text NOT NULL,
	"connection" text NOT NULL,
	"sql" text NOT NULL,
	"key" jsonb NOT NULL,
	"version" integer DEFAULT 1 NOT NULL,
	"changed_at" timestamp with time zone NOT NULL,
	CONSTRAINT "saved_query_name_unique" UNIQUE("name")
);
--> statement-breakpoint
CREATE TABLE "saved_query_version" (
	"query" text NOT NULL,
	"number" integer NOT NULL,
	"at" timestamp with time zone NOT NULL,
	"sql" text NOT NULL,
	"key" jsonb NOT NULL,
	CONSTRAINT "saved_query_version_query_number_pk" PRIMARY KEY("query","number")
);
--> statement-breakpoint
ALTER TABLE "errand" ADD COLUMN "send" jsonb;--> statement-breakpoint
ALTER TABLE "saved_query_version" ADD CONSTRAINT "saved_query_version_query_saved_query_id_fk" FOREIGN KEY ("query") REFERENCES "public"."saved_query"("id") ON DELETE cascade ON UPDATE no action;