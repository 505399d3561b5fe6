CREATE TABLE "version" (
	"pipeline" text NOT NULL,
	"number" integer NOT NULL,
	"at" timestamp with time zone NOT NULL,
	"definition" jsonb NOT NULL,
	CONSTRAINT "version_pipeline_number_pk" PRIMARY KEY("pipeline","number")
);
--> statement-breakpoint
ALTER TABLE "version" ADD CONSTRAINT "version_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;