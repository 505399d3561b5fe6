CREATE TABLE "restore_part" (
	"point" text NOT NULL,
	"n" integer NOT NULL,
	"lane" text NOT NULL,
	"side" text NOT NULL,
	"body" text NOT NULL,
	CONSTRAINT "restore_part_point_n_pk" PRIMARY KEY("point","n")
);
--> statement-breakpoint
CREATE TABLE "restore_point" (
	"id" text PRIMARY KEY NOT NULL,
	"pipeline" text NOT NULL,
	"at" timestamp with time zone NOT NULL,
	"why" text NOT NULL,
	"records" jsonb NOT NULL,
	"bytes" bigint NOT NULL,
	"digests" jsonb NOT NULL
);
--> statement-breakpoint
ALTER TABLE "restore_part" ADD CONSTRAINT "restore_part_point_restore_point_id_fk" FOREIGN KEY ("point") REFERENCES "public"."restore_point"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE "restore_point" ADD CONSTRAINT "restore_point_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "restore_point_pipeline" ON "restore_point" USING btree ("pipeline","at");