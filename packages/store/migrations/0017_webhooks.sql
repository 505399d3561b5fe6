CREATE TABLE "webhook" (
	"id" text PRIMARY KEY NOT NULL,
	"pipeline" text NOT NULL,
	"connection" text NOT NULL,
	"object" text NOT NULL,
	"subscription" text NOT NULL,
	"url" text NOT NULL,
	"signed" jsonb NOT NULL,
	"secret" text NOT NULL
);
--> statement-breakpoint
ALTER TABLE "webhook" ADD CONSTRAINT "webhook_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "webhook_pipeline" ON "webhook" USING btree ("pipeline");